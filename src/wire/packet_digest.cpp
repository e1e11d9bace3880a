#include "wire/packet_digest.h"

#include <nettle/sha2.h>

namespace jembatan::wire {

PacketDigest digest_of(OctetView packet) {
  sha256_ctx context;
  sha256_init(&context);
  sha256_update(&context, packet.size(), packet.data());
  PacketDigest out{};
  sha256_digest(&context, out.size(), out.data());
  return out;
}

}  // namespace jembatan::wire
