#pragma once
#include <filesystem>
#include <optional>

#include "base/result.h"
#include "document/problems.h"

namespace jembatan::document {

inline constexpr std::size_t kMaxFileSize = 16U << 20U;

/// Reads TOML 1.0. A document that is no TOML adds a problem and gives nothing.
///   name  the file's name in messages
std::optional<File> parse(std::string name, std::string_view text, Problems& problems);

/// The text of a file, at most so many octets.
///   errors  Errc::not_found, Errc::io, Errc::too_long; the text names the file and the reason
Result<std::string> read_file(const std::filesystem::path& path, std::size_t most = kMaxFileSize);

}  // namespace jembatan::document
