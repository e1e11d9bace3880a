#pragma once
// Values hidden under a shared secret.
#include "wire/packet.h"
#include "wire/shared_secret.h"

namespace jembatan::wire {

inline constexpr std::size_t kMaxPassword = 128;  ///< RFC 2865 §5.2

/// Hides a User-Password under the shared secret (RFC 2865 §5.2).
///   password   0..128 octets, any value; not kept, the caller wipes it
///   request    Request Authenticator of the packet that will carry it
///   returns    16..128 octets, a multiple of 16
///   errors     Errc::too_long: password over 128 octets
Result<Octets> hide_password(OctetView password, const Authenticator& request, const SharedSecret& secret);

/// Opens a hidden User-Password; padding zeros are taken off. With another secret than it was hidden under
/// the result is noise: nothing in the packet tells (see looks_unreadable).
///   errors     Errc::malformed: not 16..128 octets in steps of 16
Result<Octets> reveal_password(OctetView hidden, const Authenticator& request, const SharedSecret& secret);

/// Hides a value with a salt (RFC 2868 §3.5, RFC 2548 §2.4.2).
///   value      0..239 octets; not kept, the caller wipes it
///   salt       unique in its packet; the leftmost bit is set here, as the RFCs want
///   request    Request Authenticator of the request that the packet is, or answers
///   returns    the salt and the hidden octets: 2 and a multiple of 16
///   errors     Errc::too_long
Result<Octets> hide_salted(OctetView value, std::uint16_t salt, const Authenticator& request,
                           const SharedSecret& secret);

/// Opens what hide_salted made.
///   errors     Errc::malformed: not 2 and a multiple of 16 octets; Errc::not_genuine: unreadable with this
///   secret (the
///              length inside is longer than the value, or its padding is not zero)
Result<Octets> reveal_salted(OctetView hidden, const Authenticator& request, const SharedSecret& secret);

/// True if an opened password can hardly have been typed by anybody: very likely the secrets differ.
bool looks_unreadable(OctetView password);

}  // namespace jembatan::wire
