#pragma once
#include <filesystem>
#include <memory>

#include "journal/entry.h"
#include "store/database.h"

namespace jembatan::store {

/// The journal in the node's own SQLite file, a row a block, in write-ahead mode: one writes, others may read
/// at the same time, each with a connection of its own. What was written in the last moments may be missing
/// after the machine has failed.
class JournalStore final : public journal::Blocks {
 public:
  /// Opens, or makes, `journal.sqlite` in the folder.
  ///   errors  Errc::io: the folder or file cannot be used; Errc::conflict: made by another version
  static Result<std::unique_ptr<JournalStore>> open(const std::filesystem::path& folder);
  /// Renames a file that cannot be used, with what belongs to it; gives its new name.
  static Result<std::string> set_aside(const std::filesystem::path& folder);

  /// Removes it, with what belongs to it; true if there was one.
  static bool remove(const std::filesystem::path& folder);

  Status append(std::span<const journal::Block> blocks) override;
  Result<std::optional<journal::Block>> below(std::uint64_t number, const std::optional<WallTime>& since,
                                              const std::optional<WallTime>& until) override;
  Result<std::uint64_t> last() override;
  Status prune(const journal::Limits& limits, WallTime now) override;

 private:
  JournalStore(std::filesystem::path folder, SQLite::Database database);
  std::filesystem::path folder_;
  SQLite::Database database_;
  SQLite::Statement insert_;
  SQLite::Statement below_;
};

}  // namespace jembatan::store
