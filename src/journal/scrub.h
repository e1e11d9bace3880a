#pragma once
#include "dictionary/catalogue.h"
#include "wire/packet.h"

namespace jembatan::journal {

/// True for attributes whose values must not be kept: hidden ones, answers to challenges, EAP conversations,
/// Message-Authenticator.
bool is_secret(const dictionary::Path& path, const dictionary::Catalogue& catalogue);

/// A packet without what must not be kept: such values are empty, its authenticator is zero; the attributes
/// themselves stay.
Octets without_secrets(const wire::PacketView& packet, const dictionary::Catalogue& catalogue);

}  // namespace jembatan::journal
