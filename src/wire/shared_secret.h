#pragma once
#include <nettle/hmac.h>
#include <nettle/md5.h>

#include "base/secret.h"

namespace jembatan::wire {

/// A shared secret (RFC 2865 §3) with what can be computed from it alone, once: the keyed start of
/// HMAC-MD5 (RFC 2104) and of MD5 over the secret. Immutable; copies may be used by any thread.
class SharedSecret {
 public:
  SharedSecret() : SharedSecret(Secret{}) {}
  explicit SharedSecret(Secret secret);

  OctetView reveal() const { return secret_.reveal(); }
  bool operator==(const SharedSecret& other) const { return secret_ == other.secret_; }

  /// MD5 state after the secret's octets.
  const md5_ctx& md5_start() const { return md5_; }
  /// HMAC-MD5 state keyed with the secret.
  const hmac_md5_ctx& hmac_start() const { return hmac_; }

 private:
  Secret secret_;
  md5_ctx md5_{};
  hmac_md5_ctx hmac_{};
};

}  // namespace jembatan::wire
