#pragma once
#include "decide/hidden_values.h"
#include "wire/builder.h"

namespace jembatan::decide {

/// Copies attributes from a packet of one hop into a packet of another: byte for byte, but values that are
/// hidden (User-Password, Tunnel-Password, those that dictionaries call hidden, also inside Vendor-Specific)
/// are opened and hidden anew. What cannot be opened is copied as it is: the next hop will say that it is
/// unreadable.
///   errors  Errc::malformed: a User-Password that is no hidden value; Errc::too_long: the packet is full
struct Rehiding {
  const dictionary::Catalogue& catalogue;
  HiddenWith from;
  HiddenWith to;
  Status copy(const wire::PacketView& packet, const wire::Attribute& attribute,
              wire::PacketBuilder& out) const;
};

}  // namespace jembatan::decide
