#pragma once
#include <variant>

#include "accounting/store.h"
#include "store/database.h"

namespace jembatan::store {

/// A table of sessions, which open ones and those of a day alike are kept in.
inline constexpr const char* kSessionTable = R"(
CREATE TABLE session (
  id INTEGER PRIMARY KEY,
  client TEXT NOT NULL, nas TEXT NOT NULL, port TEXT NOT NULL, session_id TEXT NOT NULL,
  user TEXT NOT NULL, realm TEXT NOT NULL, calling_station TEXT NOT NULL, framed_ip TEXT NOT NULL,
  started_ms INTEGER NOT NULL, updated_ms INTEGER NOT NULL, heard_ms INTEGER NOT NULL, ended_ms INTEGER,
  ended_by INTEGER NOT NULL, interval_s INTEGER NOT NULL, session_time_s INTEGER NOT NULL,
  input_octets INTEGER NOT NULL, output_octets INTEGER NOT NULL, terminate_cause INTEGER NOT NULL);
CREATE INDEX session_by_number ON session (session_id, nas);
)";
inline constexpr std::string_view kSessionColumns =
    "id, client, nas, port, session_id, user, realm, calling_station, framed_ip, started_ms, updated_ms, "
    "heard_ms, ended_ms, ended_by, interval_s, session_time_s, input_octets, output_octets, terminate_cause";
/// Puts a session in, or what is new of it; bound by bind_session. What it is known by does not change.
inline constexpr std::string_view kPutSession =
    "INSERT INTO session VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11, ?12, ?13, ?14, ?15, ?16, ?17, "
    "?18, ?19) ON CONFLICT (id) DO UPDATE SET port = ?4, user = ?6, realm = ?7, calling_station = ?8, "
    "framed_ip = ?9, started_ms = ?10, updated_ms = ?11, heard_ms = ?12, ended_ms = ?13, ended_by = ?14, "
    "interval_s = ?15, session_time_s = ?16, input_octets = ?17, output_octets = ?18, terminate_cause = ?19";

/// The sessions of a device and Acct-Session-Id, the newest first: of two nodes, numbers do not tell.
inline constexpr std::string_view kSessionsOf =
    "SELECT id, client, nas, port, session_id, user, realm, calling_station, framed_ip, started_ms, "
    "updated_ms, "
    "heard_ms, ended_ms, ended_by, interval_s, session_time_s, input_octets, output_octets, terminate_cause "
    "FROM session WHERE session_id = ?1 AND nas = ?2 ORDER BY started_ms DESC, id DESC LIMIT 16";
/// The first of them that the record belongs to.
std::optional<accounting::Session> session_that_belongs(SQLite::Statement& sessions_of,
                                                        const accounting::Record& record);

accounting::Session session_in(SQLite::Statement& row);
/// The same into one that is there: without new memory for each of many.
void read_session(SQLite::Statement& row, accounting::Session& into);
void bind_session(SQLite::Statement& to, const accounting::Session& session);

/// A query's parts as a WHERE clause over columns that records and sessions share, and the values to bind.
class Filter {
 public:
  ///   from, until  the columns that the query's times are compared with
  Filter(const accounting::Query& query, std::string_view from, std::string_view until);
  void also(std::string_view condition) { where_ += " AND " + std::string(condition); }
  /// `SELECT columns FROM table WHERE … tail`, ready to be stepped through.
  SQLite::Statement select(SQLite::Database& from, std::string_view columns, std::string_view table,
                           std::string_view tail) const;

 private:
  std::size_t value(std::variant<std::string, std::int64_t> one);
  void equal(std::string_view column, const std::string& text);
  std::string where_ = "1";
  std::vector<std::variant<std::string, std::int64_t>> values_;
};
Filter record_filter(const accounting::Query& query);
Filter session_filter(const accounting::Query& query);

}  // namespace jembatan::store
