#pragma once
#include <string>
#include <string_view>
#include <unordered_map>

namespace jembatan {

struct TextHash {
  using is_transparent = void;
  std::size_t operator()(std::string_view text) const { return std::hash<std::string_view>()(text); }
};

/// By texts, in no order; a view is looked up without making a text of it.
template <class Value>
using ByText = std::unordered_map<std::string, Value, TextHash, std::equal_to<>>;

}  // namespace jembatan
