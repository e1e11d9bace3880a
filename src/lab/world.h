#pragma once
#include <filesystem>

#include "base/result.h"

namespace jembatan::lab {

/// Writes the demo's files into folders of their own: each node behind its stand-in.
///   free_ports  replace the demo's well-known ports by free ones
///   errors      Errc::io
Status write_demo(const std::filesystem::path& root, bool free_ports);

}  // namespace jembatan::lab
