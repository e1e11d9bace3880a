#include "wire/shared_secret.h"

namespace jembatan::wire {

SharedSecret::SharedSecret(Secret secret) : secret_(std::move(secret)) {
  const OctetView octets = secret_.reveal();
  md5_init(&md5_);
  md5_update(&md5_, octets.size(), octets.data());
  hmac_md5_set_key(&hmac_, octets.size(), octets.data());
}

}  // namespace jembatan::wire
