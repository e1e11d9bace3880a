#pragma once
#include <functional>

#include "identity/one_time_code.h"
#include "store/database.h"

namespace jembatan::store {

/// What has served of one-time codes, as an SQLite file of the node: a page for each user and factor.
class CodeBook {
 public:
  /// Opens, or makes, `codes.sqlite` in the folder.
  ///   errors  Errc::io; Errc::conflict: made by a newer version
  static Result<std::unique_ptr<CodeBook>> open(const std::filesystem::path& folder);

  /// Whose page it is.
  struct Key {
    std::string factor;
    std::string user;  ///< comparable
    auto operator<=>(const Key&) const = default;
  };
  struct Page {
    identity::CodePage page;
    bool apart = true;  ///< it has what no other node of the plan knows of
  };
  /// An empty one if there is none.
  ///   errors  Errc::io; Errc::malformed: it is damaged
  Result<Page> read(const Key& key);
  Status write(const Key& key, const Page& page);
  Status remove(const Key& key);
  /// Those whose pages have what no other node knows of.
  Result<std::vector<Key>> apart();
  /// All that is written by `work` is on the disk when this returns without an error, or nothing of it.
  Status together(const std::function<Status()>& work);

 private:
  CodeBook(std::filesystem::path folder, SQLite::Database database);
  std::filesystem::path folder_;
  SQLite::Database database_;
  SQLite::Statement read_;
  SQLite::Statement write_;
  SQLite::Statement remove_;
};

}  // namespace jembatan::store
