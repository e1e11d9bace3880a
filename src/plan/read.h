#pragma once
#include <filesystem>
#include <functional>
#include <span>

#include "document/problems.h"
#include "plan/plan.h"

namespace jembatan::plan {

/// One file of a plan's folder.
struct SourceFile {
  std::string name;  ///< as messages call it
  std::string text;
};

/// Where `{ file = "…" }` and `{ env = "…" }` lead to.
struct SecretSources {
  std::function<Result<std::string>(const std::string&)> file;
  std::function<Result<std::string>(const std::string&)> variable;
};

/// Reads a plan from its files. Has no effects; reports all problems, not only the first.
///   catalogue  what the plan's attribute names mean
///   returns  the plan, or nothing if there is an error among the problems
PlanPtr read(std::span<const SourceFile> files, const SecretSources& secrets, document::Problems& problems,
             dictionary::CataloguePtr catalogue = dictionary::standard_catalogue());

/// Reads the *.toml files of a folder in the order of their names; secret files are looked for from that
/// folder.
/// The operator's dictionaries are the *.toml files of its folder "dictionaries".
PlanPtr read_folder(const std::filesystem::path& folder, document::Problems& problems);

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
