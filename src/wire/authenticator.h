#pragma once
// Request, Response and Message-Authenticator: computing, signing and verifying. All comparisons take
// constant time.
#include "wire/packet.h"
#include "wire/shared_secret.h"

namespace jembatan::wire {

enum class Signature : std::uint8_t { absent, valid, wrong };

/// MD5(Code + Identifier + Length + authenticator + Attributes + secret), the form shared by RFC 2865 §3
/// (replies; authenticator = Request Authenticator) and RFC 2866 §3 (Accounting-Request; authenticator = 16
/// zeros).
///   packet  header and attributes, 20 octets or more; its own authenticator field is not read
Authenticator packet_digest(OctetView packet, const Authenticator& authenticator, const SharedSecret& secret);

/// Message-Authenticator of the packet (RFC 3579 §3.2): HMAC-MD5 with `authenticator` in the header's field
/// and zeros in the attribute's value.
///   value_at  offset of the attribute's 16-octet value in the packet
Authenticator message_authenticator(OctetView packet, std::size_t value_at,
                                    const Authenticator& authenticator, const SharedSecret& secret);

/// Looks for Message-Authenticator and checks it. More than one, or one not 16 octets long, is `wrong`.
///   request  the Request Authenticator: the packet's own for a request, that of the request for a reply
Signature check_message_authenticator(const PacketView& packet, const Authenticator& request,
                                      const SharedSecret& secret);

/// True if the Request Authenticator is right, where it is a digest (is_digested); says nothing about
/// Message-Authenticator, which is computed over zeros in its place (RFC 5176 §3.4).
bool verify_digested_request(const PacketView& packet, const SharedSecret& secret);

/// True if the Response Authenticator is right (RFC 2865 §3); says nothing about Message-Authenticator.
bool verify_response(const PacketView& reply, const Authenticator& request, const SharedSecret& secret);

/// Fills in Message-Authenticator, where the packet has room for one, in a request whose Request
/// Authenticator is already in place (Access-Request, Status-Server).
void sign_request(OctetSpan packet, const SharedSecret& secret);

/// Fills in Message-Authenticator, where the packet has room for one, then the Request Authenticator of a
/// request where it is a digest (is_digested).
void sign_digested_request(OctetSpan packet, const SharedSecret& secret);

/// Fills in Message-Authenticator, where the packet has room for one, then the Response Authenticator.
void sign_response(OctetSpan packet, const Authenticator& request, const SharedSecret& secret);

}  // namespace jembatan::wire
