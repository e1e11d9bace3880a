#include "revision/seal.h"

#include <nettle/gcm.h>
#include <nettle/hmac.h>
#include <nettle/sha2.h>

namespace jembatan::revision {
namespace {

constexpr std::size_t kMarkOctets = 16;

void begin(gcm_aes256_ctx& gcm, const Secret& key, OctetView nonce, std::string_view mark) {
  gcm_aes256_set_key(&gcm, key.reveal().data());
  gcm_aes256_set_iv(&gcm, nonce.size(), nonce.data());
  gcm_aes256_update(&gcm, mark.size(), view_of(mark).data());
}

}  // namespace

Result<SealKey> SealKey::parse(const Secret& hex) {
  auto octets = from_hex(text_of(hex.reveal()));
  if (!octets || octets->size() != kSize)
    return fail(Errc::malformed, "a node's key is 64 hexadecimal digits");
  SealKey out;
  out.key_ = Secret(text_of(*octets));
  wipe(*octets);
  return out;
}

SealKey SealKey::of(Secret octets) {
  SealKey out;
  out.key_ = std::move(octets);
  return out;
}

Secret SealKey::derived(OctetView label) const {
  hmac_sha256_ctx hmac;
  hmac_sha256_set_key(&hmac, kSize, key_.reveal().data());
  hmac_sha256_update(&hmac, label.size(), label.data());
  std::array<std::uint8_t, SHA256_DIGEST_SIZE> digest{};
  hmac_sha256_digest(&hmac, digest.size(), digest.data());
  Secret out(text_of(digest));
  wipe(digest);
  return out;
}

std::string SealKey::mark(std::string_view owner, const Secret& secret) const {
  hmac_sha256_ctx hmac;
  hmac_sha256_set_key(&hmac, kSize, key_.reveal().data());
  hmac_sha256_update(&hmac, owner.size(), view_of(owner).data());
  const std::uint8_t between = 0;
  hmac_sha256_update(&hmac, 1, &between);
  hmac_sha256_update(&hmac, secret.reveal().size(), secret.reveal().data());
  std::array<std::uint8_t, kMarkOctets> digest{};
  hmac_sha256_digest(&hmac, digest.size(), digest.data());
  return to_hex(digest);
}

Octets SealKey::seal(std::string_view mark, const Secret& secret, Random& random) const {
  const std::size_t size = secret.reveal().size();
  Octets out(GCM_IV_SIZE + size + GCM_DIGEST_SIZE);
  const OctetSpan nonce = OctetSpan(out).first(GCM_IV_SIZE);
  random.fill(nonce);
  gcm_aes256_ctx gcm;
  begin(gcm, key_, nonce, mark);
  gcm_aes256_encrypt(&gcm, size, out.data() + GCM_IV_SIZE, secret.reveal().data());
  gcm_aes256_digest(&gcm, GCM_DIGEST_SIZE, out.data() + GCM_IV_SIZE + size);
  return out;
}

Result<Secret> SealKey::open(std::string_view mark, OctetView sealed) const {
  const Error not_ours =
      fail(Errc::not_genuine, "a kept secret cannot be opened: it was sealed with another node's key");
  if (sealed.size() < GCM_IV_SIZE + GCM_DIGEST_SIZE) return not_ours;
  const std::size_t size = sealed.size() - GCM_IV_SIZE - GCM_DIGEST_SIZE;
  gcm_aes256_ctx gcm;
  begin(gcm, key_, sealed.first(GCM_IV_SIZE), mark);
  Octets plain(size);
  gcm_aes256_decrypt(&gcm, size, plain.data(), sealed.data() + GCM_IV_SIZE);
  std::array<std::uint8_t, GCM_DIGEST_SIZE> tag{};
  gcm_aes256_digest(&gcm, tag.size(), tag.data());
  const bool genuine = equal_in_constant_time(tag, sealed.last(GCM_DIGEST_SIZE));
  Secret out(text_of(plain));
  wipe(plain);
  if (!genuine) return not_ours;
  return out;
}

Octets sha256(OctetView octets) {
  sha256_ctx sha;
  sha256_init(&sha);
  sha256_update(&sha, octets.size(), octets.data());
  Octets out(SHA256_DIGEST_SIZE);
  sha256_digest(&sha, out.size(), out.data());
  return out;
}

}  // namespace jembatan::revision
