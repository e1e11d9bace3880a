#pragma once
#include <filesystem>

#include "base/random.h"
#include "base/secret.h"

namespace jembatan::admin {

/// The bearer token of a node: read from its file, which is made with a new token, readable by its owner
/// alone, if it is not there.
///   errors  Errc::io; Errc::not_allowed: others may read the file
Result<Secret> open_token(const std::filesystem::path& file, Random& random);

}  // namespace jembatan::admin
