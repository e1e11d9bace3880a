#pragma once
#include <filesystem>
#include <nlohmann/json_fwd.hpp>

#include "base/result.h"

namespace jembatan::cli {

/// A plan's folder as the API takes it: its files, and what its secrets lead to, for a node cannot look into
/// this machine's files.
///   errors  Errc::malformed: the folder cannot be read
Result<nlohmann::json> bundle_of(const std::filesystem::path& folder);

}  // namespace jembatan::cli
