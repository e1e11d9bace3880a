#pragma once
#include "decide/edits.h"
#include "wire/builder.h"
#include "wire/shared_secret.h"

namespace jembatan::engine {

/// What values of a packet are hidden with: the secret of its hop, and the Request Authenticator of the
/// request that the packet is, or answers.
struct HiddenWith {
  const wire::SharedSecret& secret;
  wire::Authenticator request;
};

/// Copies one attribute from a packet of one hop into a packet of another: byte for byte, but values that are
/// hidden (User-Password, Tunnel-Password, those that dictionaries call hidden, also inside Vendor-Specific)
/// are opened and hidden anew. What cannot be opened is copied as it is: the next hop will say that it is
/// unreadable.
///   errors  Errc::malformed: a User-Password that is no hidden value; Errc::too_long: the packet is full
Status copy_attribute(const dictionary::Catalogue& catalogue, const wire::PacketView& packet,
                      const wire::Attribute& attribute, const HiddenWith& from, const HiddenWith& to,
                      wire::PacketBuilder& out);

/// Opens and hides the hidden values of one packet, for edits.
decide::HiddenValues hidden_values(const HiddenWith& with, Random& random);

}  // namespace jembatan::engine
