#pragma once
// Telling packets apart that were not meant to be the same.
#include <array>

#include "wire/packet.h"

namespace jembatan::wire {

using PacketDigest = std::array<std::uint8_t, 16>;

/// The first half of the SHA-256 of a packet's octets: nobody finds two packets with the same one.
PacketDigest digest_of(OctetView packet);

/// A number by which both ends of one hop know an Access-Request, without any change on the wire: out of its
/// Identifier and Request Authenticator, which are by chance (RFC 2865 §3). It does not disclose them. 0 for
/// other packets: the authenticator of accounting is made with the secret.
std::uint64_t leg_of(const PacketView& request);

}  // namespace jembatan::wire
