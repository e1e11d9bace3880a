#pragma once
// Where numbers stand in the octets of an attribute (RFC 2865 §5.26, RFC 6929 §2).
#include <algorithm>

#include "dictionary/catalogue.h"

namespace jembatan::dictionary {

inline constexpr std::uint32_t kVendorSpecific = 26;
inline constexpr std::uint8_t kMoreFlag = 0x80;  ///< RFC 6929 §2.2
inline constexpr std::size_t kLongExtendedPiece =
    251;  ///< octets behind type, length, extended type and flags

constexpr bool is_extended(std::uint32_t type) {
  return type >= 241 && type <= 246;
}
constexpr bool is_long_extended(std::uint32_t type) {
  return type == 245 || type == 246;
}

/// True for {24N, 26, VENDOR, TYPE, …}: an extended vendor-specific attribute (RFC 6929 §2.4).
inline bool is_evs(const Path& path) {
  return path.size() >= 4 && is_extended(path[0]) && path[1] == kVendorSpecific;
}
/// True for {26, VENDOR, TYPE, …}.
inline bool is_vendors(const Path& path) {
  return path.size() >= 2 && path[0] == kVendorSpecific;
}

/// How many of the numbers name the outermost attribute; the others are tlvs inside it.
inline std::size_t top_of(const Path& path) {
  if (is_vendors(path)) return std::min<std::size_t>(3, path.size());
  if (is_evs(path)) return 4;
  return is_extended(path[0]) ? std::min<std::size_t>(2, path.size()) : 1;
}

}  // namespace jembatan::dictionary
