#include "revision/wrap.h"

#include <nettle/curve25519.h>
#include <nettle/hmac.h>

#include <algorithm>

namespace jembatan::revision {
namespace {

constexpr std::size_t kPoint = CURVE25519_SIZE;
constexpr std::string_view kPairLabel = "jembatan: key pair of a node";
constexpr std::string_view kWrapLabel = "jembatan: key of a shared plan";

// What both ends of a wrapping know: keyed with the point that only they reach, over both public keys.
Result<SealKey> key_between(const Secret& own, OctetView other, OctetView ephemeral, OctetView recipient) {
  Octets point(kPoint);
  curve25519_mul(point.data(), own.reveal().data(), other.data());
  const bool nowhere = std::all_of(point.begin(), point.end(), [](std::uint8_t o) { return o == 0; });
  Octets both(ephemeral.begin(), ephemeral.end());
  append(both, recipient);
  const SealKey at_point = SealKey::of(Secret(text_of(point)));
  wipe(point);
  if (nowhere) return fail(Errc::malformed, "it is no public key (RFC 7748 section 6.1)");
  append(both, view_of(kWrapLabel));
  return SealKey::of(at_point.derived(both));
}

}  // namespace

KeyPair::KeyPair(const SealKey& of_node)
    : private_key_(of_node.derived(view_of(kPairLabel))), public_key_(kPoint) {
  curve25519_mul_g(public_key_.data(), private_key_.reveal().data());
}

Result<Octets> wrap(const SealKey& key, OctetView public_key, Random& random) {
  if (public_key.size() != kPoint) return fail(Errc::malformed, "it is no public key: it has 32 octets");
  Octets chance(kPoint);
  random.fill(chance);
  const Secret once(text_of(chance));
  wipe(chance);
  Octets out(kPoint);
  curve25519_mul_g(out.data(), once.reveal().data());
  const auto between = key_between(once, public_key, out, public_key);
  if (!between) return between.error();
  append(out, between->seal(kWrapLabel, key.secret(), random));
  return out;
}

Result<SealKey> KeyPair::unwrap(OctetView wrapped) const {
  const Error not_ours = fail(Errc::not_genuine, "the plan's key was not wrapped for this node");
  if (wrapped.size() < kPoint) return not_ours;
  const OctetView ephemeral = wrapped.first(kPoint);
  const auto between = key_between(private_key_, ephemeral, ephemeral, public_key_);
  if (!between) return not_ours;
  const auto key = between->open(kWrapLabel, wrapped.subspan(kPoint));
  if (!key || key->reveal().size() != SealKey::kSize) return not_ours;
  return SealKey::of(*key);
}

std::string fingerprint(OctetView public_key) {
  constexpr std::size_t kOctets = 16;
  constexpr std::size_t kGroup = 4;
  const std::string digits = to_hex(OctetView(sha256(public_key)).first(kOctets));
  std::string out;
  for (std::size_t i = 0; i < digits.size(); i += kGroup)
    out += (out.empty() ? "" : "-") + digits.substr(i, kGroup);
  return out;
}

}  // namespace jembatan::revision
