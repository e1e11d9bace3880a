#include "base/ip.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>
#include <charconv>
#include <cstring>
#include <optional>

namespace jembatan {
namespace {

template <class Number>
std::optional<Number> whole_number(std::string_view text, int base = 10) {
  Number value{};
  const auto [end, problem] = std::from_chars(text.data(), text.data() + text.size(), value, base);
  if (problem != std::errc{} || end != text.data() + text.size() || text.empty()) return std::nullopt;
  return value;
}

bool parse_v4(std::string_view text, std::uint8_t* out) {
  for (int i = 0; i < 4; ++i) {
    const std::size_t dot = i < 3 ? text.find('.') : text.size();
    if (dot == std::string_view::npos || dot > 3) return false;
    const auto part = whole_number<unsigned>(text.substr(0, dot));
    if (!part || *part > 255) return false;
    out[i] = static_cast<std::uint8_t>(*part);
    text.remove_prefix(std::min(text.size(), dot + 1));
  }
  return text.empty();
}

// Reads groups between colons into out; returns the octets written, or nothing if a group is wrong.
std::optional<std::size_t> parse_groups(std::string_view text, std::uint8_t* out, std::size_t room) {
  std::size_t used = 0;
  while (!text.empty()) {
    const std::size_t colon = text.find(':');
    const std::string_view group = text.substr(0, colon);
    if (colon == std::string_view::npos && group.find('.') != std::string_view::npos) {
      if (used + 4 > room || !parse_v4(group, out + used)) return std::nullopt;
      return used + 4;
    }
    const auto value = whole_number<unsigned>(group, 16);
    if (!value || group.size() > 4 || used + 2 > room) return std::nullopt;
    store16(out + used, static_cast<std::uint16_t>(*value));
    used += 2;
    if (colon == std::string_view::npos) break;
    text.remove_prefix(colon + 1);
    if (text.empty()) return std::nullopt;
  }
  return used;
}

bool parse_v6(std::string_view text, std::uint8_t* out) {
  std::memset(out, 0, 16);
  const std::size_t gap = text.find("::");
  if (gap == std::string_view::npos) return parse_groups(text, out, 16) == 16U;
  std::uint8_t tail[16];
  const auto before = parse_groups(text.substr(0, gap), out, 14);
  const auto behind = parse_groups(text.substr(gap + 2), tail, 14);
  if (!before || !behind || *before + *behind > 14) return false;
  std::memcpy(out + 16 - *behind, tail, *behind);
  return true;
}

// RFC 5952 §4: lower case, no leading zeros, the longest run of two or more zero groups as "::".
std::string text_of_v6(const std::array<std::uint8_t, 16>& octets) {
  int best_start = -1;
  int best_length = 1;
  for (int i = 0; i < 8; ++i) {
    int run = 0;
    while (i + run < 8 && load16(&octets[static_cast<std::size_t>(2 * (i + run))]) == 0) ++run;
    if (run > best_length) {
      best_start = i;
      best_length = run;
    }
    i += run;
  }
  std::string out;
  for (int i = 0; i < 8; ++i) {
    if (i == best_start) {
      out += "::";
      i += best_length - 1;
      continue;
    }
    if (!out.empty() && out.back() != ':') out += ':';
    out += fmt::format("{:x}", load16(&octets[static_cast<std::size_t>(2 * i)]));
  }
  return out;
}

}  // namespace

IpAddress IpAddress::from_v4(const std::uint8_t* four) {
  IpAddress out;
  std::memcpy(out.octets.data(), four, 4);
  return out;
}

IpAddress IpAddress::from_v6(const std::uint8_t* sixteen) {
  IpAddress out;
  out.family = Family::v6;
  std::memcpy(out.octets.data(), sixteen, 16);
  return out;
}

Result<IpAddress> IpAddress::parse(std::string_view text) {
  IpAddress out;
  if (text.find(':') == std::string_view::npos) {
    if (parse_v4(text, out.octets.data())) return out;
  } else {
    out.family = Family::v6;
    if (parse_v6(text, out.octets.data())) return out;
  }
  return fail(Errc::malformed,
              fmt::format("'{}' is not an address; allowed: like 192.0.2.1 or 2001:db8::1", text));
}

bool IpAddress::loopback() const {
  if (family == Family::v4) return octets[0] == 127;
  return *this == from_v6(reinterpret_cast<const std::uint8_t*>("\0\0\0\0\0\0\0\0\0\0\0\0\0\0\0\1"));
}

std::string IpAddress::text() const {
  if (family == Family::v6) return text_of_v6(octets);
  std::string out;  // of every log line: no format to be read
  for (std::size_t i = 0; i < 4; ++i) {
    if (i > 0) out += '.';
    if (octets[i] >= 100) out += static_cast<char>('0' + octets[i] / 100);
    if (octets[i] >= 10) out += static_cast<char>('0' + octets[i] / 10 % 10);
    out += static_cast<char>('0' + octets[i] % 10);
  }
  return out;
}

Result<Prefix> Prefix::parse(std::string_view text) {
  const std::size_t slash = text.find('/');
  const auto address = IpAddress::parse(text.substr(0, slash));
  if (!address) return address.error();
  Prefix out{*address, static_cast<std::uint8_t>(address->bits())};
  if (slash == std::string_view::npos) return out;
  const auto length = whole_number<unsigned>(text.substr(slash + 1));
  if (!length || *length > static_cast<unsigned>(address->bits())) {
    return fail(Errc::malformed, fmt::format("'{}' has a prefix length of '{}'; allowed: 0 to {}", text,
                                             text.substr(slash + 1), address->bits()));
  }
  out.length = static_cast<std::uint8_t>(*length);
  for (int bit = out.length; bit < address->bits(); ++bit) {
    if (!bit_at(out.address, bit)) continue;
    IpAddress first = out.address;
    for (int b = out.length; b < address->bits(); ++b) {
      first.octets[static_cast<std::size_t>(b / 8)] &= static_cast<std::uint8_t>(~(0x80 >> (b % 8)));
    }
    return fail(Errc::malformed,
                fmt::format("'{}' has bits set behind its prefix length; the prefix is {}/{}", text,
                            first.text(), out.length));
  }
  return out;
}

bool Prefix::contains(const IpAddress& other) const {
  return other.family == address.family && shared_bits(address, other) >= length;
}

std::string Prefix::text() const {
  if (length == address.bits()) return address.text();
  return fmt::format("{}/{}", address.text(), length);
}

Result<Endpoint> Endpoint::parse(std::string_view text, std::uint16_t default_port) {
  std::string_view host = text;
  std::string_view port;
  if (text.starts_with('[')) {
    const std::size_t close = text.find(']');
    if (close == std::string_view::npos)
      return fail(Errc::malformed, fmt::format("'{}' has '[' without ']'", text));
    host = text.substr(1, close - 1);
    port = text.substr(close + 1);
  } else if (std::count(text.begin(), text.end(), ':') == 1) {
    host = text.substr(0, text.find(':'));
    port = text.substr(text.find(':'));
  }
  const auto address = IpAddress::parse(host);
  if (!address) return address.error();
  if (port.empty()) return Endpoint{*address, default_port};
  const auto number = whole_number<unsigned>(port.substr(1));
  if (port[0] != ':' || !number || *number > 65535) {
    return fail(Errc::malformed,
                fmt::format("'{}' has no usable port; allowed: ADDRESS:PORT, port 0 to 65535", text));
  }
  return Endpoint{*address, static_cast<std::uint16_t>(*number)};
}

std::string Endpoint::text() const {
  if (address.family == Family::v6) return fmt::format("[{}]:{}", address.text(), port);
  return fmt::format("{}:{}", address.text(), port);
}

int shared_bits(const IpAddress& a, const IpAddress& b) {
  if (a.family != b.family) return 0;
  for (std::size_t i = 0; i < a.view().size(); ++i) {
    const auto difference = static_cast<std::uint8_t>(a.octets[i] ^ b.octets[i]);
    if (difference != 0) return static_cast<int>(8 * i) + std::countl_zero(difference);
  }
  return a.bits();
}

std::uint64_t hash_of(const Endpoint& endpoint) {
  std::uint64_t a = load64(endpoint.address.octets.data());
  std::uint64_t b = load64(endpoint.address.octets.data() + 8);
  std::uint64_t hash = (a ^ (b * 0x9E3779B97F4A7C15U)) + endpoint.port;
  hash ^= hash >> 32;
  hash *= 0xD6E8FEB86659FD93U;
  return hash ^ (hash >> 32);
}

}  // namespace jembatan
