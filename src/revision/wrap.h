#pragma once
// The key of a shared plan handed from one node to another: X25519 (RFC 7748), HMAC-SHA-256, AES-256-GCM.
#include "revision/seal.h"

namespace jembatan::revision {

/// A node's pair of keys, made out of its own key: the same one each time.
class KeyPair {
 public:
  explicit KeyPair(const SealKey& of_node);
  const Octets& public_key() const { return public_key_; }  ///< 32 octets

  /// The key that was wrapped for this node.
  ///   errors  Errc::not_genuine: for another node, or damaged
  Result<SealKey> unwrap(OctetView wrapped) const;

 private:
  Secret private_key_;
  Octets public_key_;
};

/// Wraps a key for the node with that public key: nobody else can read it.
///   errors  Errc::malformed: it is no public key
Result<Octets> wrap(const SealKey& key, OctetView public_key, Random& random);

/// What people compare a public key by: 128 bits of its SHA-256, as "4f2a-99c1-…".
std::string fingerprint(OctetView public_key);

}  // namespace jembatan::revision
