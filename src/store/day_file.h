#pragma once
#include "accounting/store.h"
#include "store/salvage.h"

namespace jembatan::store {

/// A day, counted from 1970-01-01 UTC.
using Day = std::chrono::sys_days;
Day day_of(WallTime time);                         ///< that the time is in
std::string date_text(Day day);                    ///< "2026-11-26"
std::optional<Day> day_in(std::string_view text);  ///< as date_text() writes it; nothing if it is none

/// The records that were received on one day, how they were delivered, and the sessions that ended on it: one
/// SQLite file, which goes as a whole when its time is over. What SQLite throws goes through.
class DayFile {
 public:
  /// Mends the file of a day, if it is damaged. Throws.
  static std::optional<Mended> mend(const std::filesystem::path& file);
  enum class Access : std::uint8_t { read, write };
  /// Opens the file; makes it, if it is to be written.
  DayFile(const std::filesystem::path& file, Access access);

  SQLite::Database& database() { return database_; }
  /// Puts a record in, unless it is there.
  ///   waits  for so many groups; when all have it, a record that is not kept loses what it says
  void add(const accounting::Record& record, bool keep, std::size_t waits);
  /// The record of the same event, other than itself.
  std::optional<std::int64_t> find(const accounting::Arrival& arrival);
  /// A record that is here already waits for groups again: for those that have not acknowledged it.
  struct Again {
    std::vector<std::string> groups;
    bool keep = true;
  };
  Again wait_again(std::int64_t id, const accounting::Incoming& what);
  /// A record as it came; nothing if it is not of this day.
  std::optional<accounting::Arrival> arrival(std::int64_t id);
  void append_records_of(const accounting::Session& session, std::vector<accounting::Record>& to);
  /// The lowest id behind one.
  std::optional<std::int64_t> first_behind(std::int64_t id);
  /// A group has a record: the first evidence of it stays.
  ///   keep  as in add()
  void delivered(const accounting::Delivered& evidence, bool keep);
  /// The evidence of a record's deliveries, the oldest first.
  std::vector<accounting::Delivered> deliveries(std::int64_t id);
  /// Puts a session in that ended on this day, or what is new of it.
  void put(const accounting::Session& session);
  /// The newest session that ended on this day and that the record belongs to.
  std::optional<accounting::Session> session_of(const accounting::Record& record);

 private:
  SQLite::Database database_;
  SQLite::Statement add_;
  SQLite::Statement find_;
  SQLite::Statement arrival_;
  SQLite::Statement deliver_;
  SQLite::Statement one_less_;
  SQLite::Statement empty_;
  SQLite::Statement put_session_;
  SQLite::Statement sessions_of_;
  SQLite::Statement records_of_;
};

inline constexpr std::string_view kRecordColumns =
    "id, received_ms, event_ms, client, source, realm, attributes, key, digest, status, nas, port, "
    "session_id, "
    "user, calling_station, framed_ip, input_octets, output_octets, session_time_s, terminate_cause";
inline constexpr std::string_view kArrivalColumns =
    "id, received_ms, event_ms, client, source, realm, attributes, key, digest";
accounting::Digest digest_in(const SQLite::Column& column);
accounting::Arrival arrival_in(SQLite::Statement& row);
accounting::Record record_in(SQLite::Statement& row);

}  // namespace jembatan::store
