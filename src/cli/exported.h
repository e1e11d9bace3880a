#pragma once
// What a folder of a plan remembers of the node: which revision it was, and the files that an export wrote.
#include <cstdint>
#include <filesystem>
#include <map>
#include <optional>
#include <string>
#include <vector>

#include "base/result.h"

namespace jembatan::cli {

class Exported {
 public:
  /// What FOLDER/.plan-revision says; nothing if it is not there.
  static Exported of(const std::filesystem::path& folder);

  std::optional<std::uint64_t> revision() const { return revision_; }
  /// True for a file of the folder that an export wrote and nobody has changed since.
  bool wrote(const std::filesystem::path& name) const;
  /// Forgets what was written before, and remembers these files as they are now.
  Status remember(std::uint64_t revision, const std::vector<std::filesystem::path>& files);
  /// The folder is that revision now; the files that were written are taken as they are.
  Status remember(std::uint64_t revision);

 private:
  std::filesystem::path folder_;
  std::optional<std::uint64_t> revision_;
  std::map<std::string, std::string> files_;  // name → SHA-256 of what was written
};

}  // namespace jembatan::cli
