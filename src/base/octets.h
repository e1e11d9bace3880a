#pragma once
// Octet strings: owned (Octets), seen (OctetView), and the big-endian numbers inside them.
#include <cstdint>
#include <span>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace jembatan {

using Octets = std::vector<std::uint8_t>;
using OctetView = std::span<const std::uint8_t>;
using OctetSpan = std::span<std::uint8_t>;

inline std::uint16_t load16(const std::uint8_t* at) {
  return static_cast<std::uint16_t>(at[0] << 8 | at[1]);
}
inline std::uint32_t load32(const std::uint8_t* at) {
  return std::uint32_t{at[0]} << 24 | std::uint32_t{at[1]} << 16 | std::uint32_t{at[2]} << 8 | at[3];
}
inline void store16(std::uint8_t* at, std::uint16_t value) {
  at[0] = static_cast<std::uint8_t>(value >> 8);
  at[1] = static_cast<std::uint8_t>(value);
}
inline void store32(std::uint8_t* at, std::uint32_t value) {
  store16(at, static_cast<std::uint16_t>(value >> 16));
  store16(at + 2, static_cast<std::uint16_t>(value));
}
inline std::uint64_t load64(const std::uint8_t* at) {
  return std::uint64_t{load32(at)} << 32 | load32(at + 4);
}
inline void store64(std::uint8_t* at, std::uint64_t value) {
  store32(at, static_cast<std::uint32_t>(value >> 32));
  store32(at + 4, static_cast<std::uint32_t>(value));
}

inline OctetView view_of(std::string_view text) {
  return {reinterpret_cast<const std::uint8_t*>(text.data()), text.size()};
}
inline std::string_view text_of(OctetView octets) {
  return {reinterpret_cast<const char*>(octets.data()), octets.size()};
}
inline Octets octets_of(std::string_view text) {
  return {text.begin(), text.end()};
}
inline void append(Octets& to, OctetView more) {
  to.insert(to.end(), more.begin(), more.end());
}

/// Lower-case hexadecimal, two digits an octet, no separators.
std::string to_hex(OctetView octets);

/// Reads hexadecimal digits in pairs; white space and ':' between octets are skipped.
///   errors  Errc::malformed: another character, or an odd number of digits
Result<Octets> from_hex(std::string_view text);

/// True if both have the same octets; the time depends on the lengths alone.
bool equal_in_constant_time(OctetView a, OctetView b);

/// Overwrites with zeros in a way that the compiler keeps.
void wipe(OctetSpan octets);

}  // namespace jembatan
