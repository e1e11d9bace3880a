#pragma once
#include <optional>
#include <string>
#include <string_view>

#include "document/value.h"

namespace jembatan::document {

inline constexpr std::size_t kMostNested = 32;    ///< arrays and inline tables in each other
inline constexpr std::size_t kMostKeyParts = 16;  ///< of a dotted key

/// Where a TOML text is nested more deeply than any of ours, without reading it: readers call themselves for
/// each level, so this is asked before.
struct TooDeep {
  Position at;
  std::string text;
};
std::optional<TooDeep> too_deep(std::string_view toml);

}  // namespace jembatan::document
