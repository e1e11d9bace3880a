#pragma once
#include <filesystem>
#include <optional>
#include <span>

#include "document/problems.h"
#include "plan/outside.h"
#include "plan/plan.h"

namespace jembatan::plan {

/// One file of a plan's folder.
struct SourceFile {
  std::string name;  ///< as messages call it
  std::string text;
};

/// Names of files below this are dictionaries: "dictionaries/strait.toml".
inline constexpr std::string_view kDictionaryFolder = "dictionaries/";

/// Files that were read so far that they are TOML; the rest of their problems is found by read().
std::vector<document::File> parse(std::span<const SourceFile> files, document::Problems& problems);

/// Reads a plan from its files. Has no effects; reports all problems, not only the first.
///   returns  the plan, or nothing if there is an error among the problems
PlanPtr read(std::vector<document::File> files, const Outside& outside, document::Problems& problems);
PlanPtr read(std::span<const SourceFile> files, const Outside& outside, document::Problems& problems);

/// The *.toml files of a folder and of its folder "dictionaries", in the order of their names.
///   returns  nothing if one of them cannot be read, or there is none; the problems say why
std::optional<std::vector<SourceFile>> folder_files(const std::filesystem::path& folder,
                                                    document::Problems& problems);
/// Secret files are looked for from that folder, variables in the environment.
Outside folder_outside(const std::filesystem::path& folder);

/// Reads the plan of a folder.
///   now  see Outside::now
PlanPtr read_folder(const std::filesystem::path& folder, document::Problems& problems,
                    std::optional<WallTime> now = std::nullopt);

/// One row of the reference: what a key of the plan means.
struct KeyMeaning {
  std::string_view section;  ///< "client", "group.server", …
  std::string_view key;
  bool required = false;
  std::string_view meaning;
};
/// Every key that a plan may have, from the tables that drive the reading.
std::vector<KeyMeaning> key_meanings();

}  // namespace jembatan::plan
