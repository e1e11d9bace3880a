#pragma once
#include <filesystem>

#include "base/random.h"
#include "base/secret.h"

namespace jembatan::host {

/// 32 random octets as hexadecimal digits: read from their file, which is made, readable by its owner alone,
/// if it is not there.
///   what  for messages: "token file", "key file"
///   errors  Errc::io; Errc::not_allowed: others may read the file
Result<Secret> open_secret_file(const std::filesystem::path& file, std::string_view what, Random& random);

/// Writes a secret to a new file, readable by its owner alone.
///   errors  Errc::io; a file that is there is not overwritten
Status write_secret_file(const std::filesystem::path& file, std::string_view what, std::string_view text);

}  // namespace jembatan::host
