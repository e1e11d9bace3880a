#pragma once
#include <filesystem>
#include <string>
#include <vector>

#include "base/result.h"

namespace jembatan::cli {

/// Runs rehearsals by the plan of a folder, without the wire.
///   at      only the steps that ask this node; empty: all
///   errors  Errc::malformed: one came out otherwise; the text has each
Status rehearse_plan(const std::filesystem::path& folder, const std::vector<std::string>& files,
                     const std::string& at);

}  // namespace jembatan::cli
