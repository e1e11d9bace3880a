#pragma once
// Internet addresses, prefixes and endpoints as values; no sockets.
#include <array>
#include <compare>
#include <cstdint>
#include <string>
#include <string_view>

#include "base/octets.h"

namespace jembatan {

enum class Family : std::uint8_t { v4, v6 };

struct IpAddress {
  std::array<std::uint8_t, 16> octets{};  ///< network order; IPv4 uses the first 4, the rest stay zero
  Family family = Family::v4;

  static IpAddress from_v4(const std::uint8_t* four);
  static IpAddress from_v6(const std::uint8_t* sixteen);

  /// "192.0.2.1", or "2001:db8::1" (RFC 4291 §2.2, with an IPv4 tail allowed).
  static Result<IpAddress> parse(std::string_view text);

  int bits() const { return family == Family::v4 ? 32 : 128; }
  OctetView view() const { return {octets.data(), family == Family::v4 ? 4U : 16U}; }
  bool unspecified() const { return octets == std::array<std::uint8_t, 16>{}; }
  bool loopback() const;
  std::string text() const;  ///< IPv6 as RFC 5952 writes it
  auto operator<=>(const IpAddress&) const = default;
};

struct Prefix {
  IpAddress address;  ///< octets behind the length are zero
  std::uint8_t length = 0;

  /// "192.0.2.0/24", or an address alone, which is its longest prefix.
  ///   errors  Errc::malformed: not an address, length out of range, or bits set behind the length
  static Result<Prefix> parse(std::string_view text);

  bool contains(const IpAddress& other) const;
  std::string text() const;
  auto operator<=>(const Prefix&) const = default;
};

struct Endpoint {
  IpAddress address;
  std::uint16_t port = 0;

  /// "192.0.2.1:1812", "[2001:db8::1]:1812", or an address alone, which gets default_port.
  static Result<Endpoint> parse(std::string_view text, std::uint16_t default_port);

  std::string text() const;
  auto operator<=>(const Endpoint&) const = default;
};

/// Mixes an endpoint into a hash; not for untrusted keys outside bounded tables.
std::uint64_t hash_of(const Endpoint& endpoint);

/// How many bits two addresses of one family share from the front; 0 for two families.
int shared_bits(const IpAddress& a, const IpAddress& b);

/// True if the bit, counted from the most significant one, is set.
inline bool bit_at(const IpAddress& address, int bit) {
  return (address.octets[static_cast<std::size_t>(bit / 8)] >> (7 - bit % 8) & 1) != 0;
}

}  // namespace jembatan
