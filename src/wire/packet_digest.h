#pragma once
// Telling packets apart that were not meant to be the same.
#include <array>

#include "base/octets.h"

namespace jembatan::wire {

using PacketDigest = std::array<std::uint8_t, 16>;

/// The first half of the SHA-256 of a packet's octets: nobody finds two packets with the same one.
PacketDigest digest_of(OctetView packet);

}  // namespace jembatan::wire
