#include "base/octets.h"

#include <cstring>

namespace jembatan {
namespace {

int digit_of(char c) {
  if (c >= '0' && c <= '9') return c - '0';
  if (c >= 'a' && c <= 'f') return c - 'a' + 10;
  if (c >= 'A' && c <= 'F') return c - 'A' + 10;
  return -1;
}

}  // namespace

std::string to_hex(OctetView octets) {
  static constexpr char kDigits[] = "0123456789abcdef";
  std::string out;
  out.reserve(octets.size() * 2);
  for (const std::uint8_t octet : octets) {
    out.push_back(kDigits[octet >> 4]);
    out.push_back(kDigits[octet & 15]);
  }
  return out;
}

Result<Octets> from_hex(std::string_view text) {
  Octets out;
  int high = -1;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const char c = text[i];
    if (high < 0 && (c == ' ' || c == '\n' || c == '\r' || c == '\t' || c == ':')) continue;
    const int digit = digit_of(c);
    if (digit < 0) {
      return fail(Errc::malformed, "character " + std::to_string(i + 1) + " is not a hexadecimal digit");
    }
    if (high < 0) {
      high = digit;
    } else {
      out.push_back(static_cast<std::uint8_t>(high << 4 | digit));
      high = -1;
    }
  }
  if (high >= 0) return fail(Errc::malformed, "odd number of hexadecimal digits; allowed: two an octet");
  return out;
}

bool equal_in_constant_time(OctetView a, OctetView b) {
  if (a.size() != b.size()) return false;
  unsigned difference = 0;
  for (std::size_t i = 0; i < a.size(); ++i) difference |= static_cast<unsigned>(a[i] ^ b[i]);
  return difference == 0;
}

void wipe(OctetSpan octets) {
  if (!octets.empty()) explicit_bzero(octets.data(), octets.size());
}

}  // namespace jembatan
