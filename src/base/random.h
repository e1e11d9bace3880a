#pragma once
// Randomness comes from outside; authenticators and Identifiers need the cryptographic kind (RFC 2865 §3).
#include "base/octets.h"

namespace jembatan {

class Random {
 public:
  virtual ~Random() = default;
  virtual void fill(OctetSpan out) = 0;

  /// A number in 0..bound-1, all equally likely but for less than 2^-32; bound is at least 1.
  std::uint32_t below(std::uint32_t bound) {
    std::uint8_t octets[8];
    fill(octets);
    return static_cast<std::uint32_t>(load64(octets) % bound);
  }

  /// So many letters and digits, safe to paste anywhere; 32 of them are some 190 bits.
  std::string letters(std::size_t count) {
    static constexpr std::string_view kLetters =
        "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789";
    std::string out;
    while (out.size() < count) out += kLetters[below(kLetters.size())];
    return out;
  }
};

/// Zeros, for what nobody will see.
class NoRandom final : public Random {
 public:
  void fill(OctetSpan out) override {
    for (std::uint8_t& octet : out) octet = 0;
  }
};

}  // namespace jembatan
