#pragma once
#include "accounting/store.h"
#include "store/database.h"

namespace jembatan::store {

/// The accounting inbox as an SQLite file of its own: a row is a commit, with all its records packed.
class Inbox final : public accounting::Inbox {
 public:
  /// Opens, or makes, `inbox.sqlite` in the folder. Commits that are damaged go into a table of their own.
  ///   errors  Errc::io; Errc::conflict: made by a newer version
  static Result<std::unique_ptr<Inbox>> open(const std::filesystem::path& folder);
  static Result<std::unique_ptr<Inbox>> open_for_reading(const std::filesystem::path& folder);

  Status append(std::span<const accounting::Incoming> records) override;
  Result<std::vector<accounting::Incoming>> behind(std::int64_t id, std::size_t most) override;
  Status forget(std::int64_t up_to) override;
  Result<std::int64_t> last() override;
  /// How many commits are damaged, now or earlier; they stay in the table `damaged`.
  std::int64_t damaged();
  /// The most pages of 4096 octets that the file may grow to.
  void limit_pages(std::int64_t most);

 private:
  Inbox(std::filesystem::path folder, SQLite::Database database);
  std::filesystem::path folder_;
  SQLite::Database database_;
  SQLite::Statement insert_;
  SQLite::Statement behind_;
  SQLite::Statement forget_;
};

}  // namespace jembatan::store
