#pragma once
#include <optional>

#include "wire/packet.h"

namespace jembatan::wire {

/// The identity that a peer gives in an EAP-Response/Identity (RFC 3748 §5.1) which a request carries in its
/// EAP-Message (RFC 3579 §3.1); nothing if there is none. A view into the packet; at most one attribute long.
std::optional<std::string_view> eap_identity(const PacketView& packet);

/// An EAP-Message with EAP-Failure (RFC 3748 §4.2) as an encoded attribute, with the Identifier of the EAP
/// packet that the request carries; nothing if it carries none. Every Access-Reject to such a request has one
/// (RFC 3579 §2.6.3): without it the peer's authenticator waits.
Octets eap_failure(const PacketView& request);

}  // namespace jembatan::wire
