#pragma once
#include "store/day_files.h"

namespace jembatan::store {

/// Accounting in the node's own SQLite files. `accounting.sqlite` has what changes: open sessions, and what
/// waits to be sent on; `records/DAY.sqlite` what was received on a day. One AccountingStore writes, others
/// may read at the same time, each with connections of its own.
class AccountingStore final : public accounting::Store {
 public:
  /// Opens, or makes, the files in the folder; those of older versions become today's.
  ///   errors  Errc::io: folder or file cannot be used; Errc::conflict: made by a newer version
  static Result<std::unique_ptr<AccountingStore>> open(const std::filesystem::path& folder);
  /// Connections that only read: everything that changes the store is refused.
  ///   errors  Errc::io
  static Result<std::unique_ptr<AccountingStore>> open_for_reading(const std::filesystem::path& folder);

  Status fill(std::span<const accounting::Incoming> records) override;
  Status hear(std::int64_t node, std::span<const accounting::Record> records) override;
  Result<std::int64_t> heard(std::int64_t node) override;
  void watch(std::function<void(const accounting::Session&)> changed) override {
    changed_ = std::move(changed);
  }
  Status settle() override;
  Result<std::string> tidy(WallTime now, const accounting::Housekeeping& how) override;
  Result<std::int64_t> last() override;
  Result<std::optional<std::int64_t>> find(const accounting::Arrival& arrival) override;
  Result<std::vector<accounting::Arrival>> newest(std::size_t most) override;
  Result<std::vector<accounting::Undelivered>> undelivered(const std::string& group, std::int64_t behind,
                                                           std::size_t most) override;
  Status delivered(std::span<const accounting::Delivered> records) override;
  Status set_aside(std::span<const accounting::SetAside> records) override;
  Result<std::vector<std::string>> waiting_groups() override;
  Result<std::vector<accounting::QueueDepth>> queue() override;
  Result<std::uint64_t> redirect(const std::string& group, const std::optional<std::string>& to) override;
  Result<std::vector<accounting::Record>> records(const accounting::Query& query) override;
  Result<std::vector<accounting::Session>> sessions(const accounting::Query& query) override;
  Result<std::vector<accounting::Record>> records_of(const accounting::Session& session) override;
  Status each_session(const accounting::Query& query,
                      const std::function<void(const accounting::Session&)>& take) override;
  Status each_entry(const accounting::LedgerQuery& query,
                    const std::function<void(const accounting::Entry&)>& take) override;
  /// Files that were damaged when this was opened.
  const std::vector<Mended>& mended() const { return mended_; }
  Result<accounting::Whereabouts> whereabouts(std::int64_t id) override;
  Result<std::vector<accounting::StoredDay>> stored() override;

 private:
  AccountingStore(std::filesystem::path folder, SQLite::Database main, DayFile::Access access);
  struct Filed;
  std::vector<Filed> put_into_days(std::span<const accounting::Incoming> records);
  void apply(const Filed& one);
  /// What a record means for sessions.
  void apply_to_sessions(const accounting::Record& record);
  std::vector<accounting::Record> newest_of(const accounting::Query& query);
  std::vector<accounting::Record> oldest_behind(const accounting::Query& query);
  void mark_lost(WallTime now, const accounting::Silence& silence);
  void put_away(WallTime now);
  std::string drop_oldest(WallTime now, const accounting::Housekeeping& how);
  std::vector<std::string> groups_that_wait();
  void close_sessions(const accounting::Record& record);
  std::optional<accounting::Session> session_of(const accounting::Record& record);
  std::vector<Day> days_since(const accounting::Arrival& arrival, std::chrono::seconds lasts = {}) const;

  std::filesystem::path folder_;
  SQLite::Database main_;
  DayFiles days_;
  SQLite::Statement enqueue_;
  SQLite::Statement waiting_;
  SQLite::Statement dequeue_;
  SQLite::Statement sessions_of_;
  SQLite::Statement put_session_;
  std::int64_t filled_ = 0;
  std::vector<Mended> mended_;
  std::function<void(const accounting::Session&)> changed_ = [](const accounting::Session&) {};
};

}  // namespace jembatan::store
