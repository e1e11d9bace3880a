#pragma once
// Files whose texts are part of the program.
#include <span>
#include <string_view>

namespace jembatan {

struct EmbeddedFile {
  std::string_view name;  ///< path below the folder it came from
  std::string_view text;
};

std::span<const EmbeddedFile> standard_dictionaries();
std::span<const EmbeddedFile> demo_world();
/// What the demo has besides when nodes share a database: files of its own, and more lines of the demo's.
std::span<const EmbeddedFile> shared_world();
std::span<const EmbeddedFile> directory_world();
std::span<const EmbeddedFile> factors_world();

}  // namespace jembatan
