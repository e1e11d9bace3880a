#pragma once
#include <cstdint>
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

/// Mixes a number so that each bit of the result depends on all of it (the finalizer of a 64-bit hash).
constexpr std::uint64_t mixed_number(std::uint64_t value) {
  value = (value ^ (value >> 30U)) * 0xbf58476d1ce4e5b9U;
  value = (value ^ (value >> 27U)) * 0x94d049bb133111ebU;
  return value ^ (value >> 31U);
}

/// A number for a text: the same on every machine and after every start. Never 0, and no secret.
constexpr std::uint64_t stable_number(std::string_view text) {
  std::uint64_t out = 0xcbf29ce484222325U;  // FNV-1a
  for (const char letter : text) out = (out ^ static_cast<std::uint8_t>(letter)) * 0x100000001b3U;
  out = mixed_number(out);
  return out == 0 ? 1 : out;
}

}  // namespace jembatan
