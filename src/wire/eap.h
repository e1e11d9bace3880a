#pragma once
#include <optional>

#include "wire/packet.h"

namespace jembatan::wire {

/// The identity that a peer gives in an EAP-Response/Identity (RFC 3748 §5.1) which a request carries in its
/// EAP-Message (RFC 3579 §3.1); nothing if there is none. A view into the packet; at most one attribute long.
std::optional<std::string_view> eap_identity(const PacketView& packet);

}  // namespace jembatan::wire
