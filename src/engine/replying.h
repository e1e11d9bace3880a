#pragma once
#include "wire/builder.h"
#include "wire/shared_secret.h"

namespace jembatan::engine {

/// Puts the reply to a client's request together and signs it: Message-Authenticator first (RFC 3579 §3.2;
/// not in an Accounting-Response), the attributes, then the request's Proxy-State attributes, all of them in
/// their order (RFC 2865 §5.33, RFC 5176 §3.1).
///   out     begun with the code, Identifier and Request Authenticator
///   errors  Errc::too_long: it does not fit into a packet
Status put_reply(const wire::PacketView& request, wire::Code code, OctetView attributes,
                 const wire::SharedSecret& secret, wire::PacketBuilder& out);

}  // namespace jembatan::engine
