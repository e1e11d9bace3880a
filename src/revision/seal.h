#pragma once
// Secrets at rest: sealed with AES-256-GCM (NIST SP 800-38D) under the node's key.
#include <array>

#include "base/random.h"
#include "base/secret.h"

namespace jembatan::revision {

/// The key of a node: 32 octets, known to the node alone.
class SealKey {
 public:
  static constexpr std::size_t kSize = 32;
  /// From 64 hexadecimal digits.
  ///   errors  Errc::malformed
  static Result<SealKey> parse(const Secret& hex);
  /// Out of its 32 octets.
  static SealKey of(Secret octets);
  /// The octets themselves, to be sealed with another key.
  const Secret& secret() const { return key_; }
  /// 32 octets that nobody can tell without the key, the same for the same label (HMAC-SHA-256).
  Secret derived(OctetView label) const;

  /// A name for a secret that discloses nothing and is the same each time: 32 hexadecimal digits of
  /// HMAC-SHA-256 (RFC 2104) over owner and secret.
  std::string mark(std::string_view owner, const Secret& secret) const;

  /// nonce (12 octets), ciphertext, tag (16 octets). The mark is authenticated with it.
  Octets seal(std::string_view mark, const Secret& secret, Random& random) const;
  /// errors  Errc::not_genuine: sealed with another key, for another mark, or damaged
  Result<Secret> open(std::string_view mark, OctetView sealed) const;

 private:
  Secret key_;
};

/// SHA-256 (FIPS 180-4), for what needs no key: tokens of 256 random bits.
Octets sha256(OctetView octets);

}  // namespace jembatan::revision
