#pragma once
// What must not be kept.
#include "dictionary/catalogue.h"
#include "wire/packet.h"

namespace jembatan::journal {

/// True for attributes whose values must not be kept: hidden ones, answers to challenges, EAP conversations,
/// Message-Authenticator.
bool is_secret(std::span<const std::uint32_t> path, const dictionary::Catalogue& catalogue);

/// Writes a packet behind what stands in `out`, without what must not be kept: such values are empty, its
/// authenticator is zero; the attributes themselves stay, and so does an EAP identity, which is a name.
void add_without_secrets(const wire::PacketView& packet, const dictionary::Catalogue& catalogue, Octets& out);

/// The same for well-formed attributes without a packet around them.
void add_without_secrets(OctetView attributes, const dictionary::Catalogue& catalogue, Octets& out);

}  // namespace jembatan::journal
