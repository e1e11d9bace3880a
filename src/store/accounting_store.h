#pragma once
#include <filesystem>

#include "accounting/store.h"
#include "store/sqlite.h"

namespace jembatan::store {

/// Accounting in the node's own SQLite file, in write-ahead mode: one AccountingStore writes, others may read
/// at the same time, each with a connection of its own. One thread at a time per object.
class AccountingStore final : public accounting::Store {
 public:
  /// Opens, or makes, `accounting.sqlite` in the folder.
  ///   errors  Errc::io: the folder or file cannot be used; Errc::conflict: made by a newer version
  static Result<std::unique_ptr<AccountingStore>> open(const std::filesystem::path& folder);
  /// A connection that only reads: everything that changes the store is refused.
  ///   errors  Errc::io
  static Result<std::unique_ptr<AccountingStore>> open_for_reading(const std::filesystem::path& folder);

  /// The most pages of 4096 octets that the file may grow to.
  Status limit_pages(std::int64_t most);

  Result<std::vector<accounting::Kept>> append(std::span<const accounting::Incoming> records) override;
  Result<std::vector<accounting::Undelivered>> undelivered(std::int64_t behind_place,
                                                           std::size_t most) override;
  Status delivered(std::span<const std::int64_t> places) override;
  Result<std::vector<accounting::QueueDepth>> queue() override;
  Result<std::vector<accounting::Record>> records(const accounting::Query& query) override;
  Result<std::vector<accounting::Session>> sessions(const accounting::Query& query) override;

 private:
  explicit AccountingStore(Database database) : database_(std::move(database)) {}
  Status prepare();
  Result<accounting::Kept> append_one(const accounting::Incoming& incoming);
  Result<std::int64_t> find_resent(const accounting::Record& record);
  Status insert_record(const accounting::Incoming& incoming);
  Status apply_to_session(const accounting::Record& record);
  Status close_sessions(const accounting::Record& record);

  Database database_;
  Statement find_resent_;
  Statement insert_record_;
  Statement insert_outbox_;
  Statement find_session_;
  Statement insert_session_;
  Statement update_session_;
  Statement close_sessions_;
};

}  // namespace jembatan::store
