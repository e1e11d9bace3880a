#include "wire/packet_digest.h"

#include <nettle/sha2.h>

#include "base/text_hash.h"

namespace jembatan::wire {

PacketDigest digest_of(OctetView packet) {
  sha256_ctx context;
  sha256_init(&context);
  sha256_update(&context, packet.size(), packet.data());
  PacketDigest out{};
  sha256_digest(&context, out.size(), out.data());
  return out;
}

std::uint64_t leg_of(const PacketView& request) {
  if (request.code() != Code::access_request) return 0;
  const Authenticator authenticator = request.authenticator();
  return stable_number(std::string(1, static_cast<char>(request.identifier())) +
                       std::string(text_of(authenticator)));
}

}  // namespace jembatan::wire
