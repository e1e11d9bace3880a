#pragma once
// A server that this node asks: its replies, and what is told of it.
#include "engine/actions.h"
#include "forward/health.h"
#include "wire/packet.h"

namespace jembatan::engine {

/// Who is told of.
struct Neighbour {
  std::string name;  ///< "GROUP/SERVER"
  const plan::Server& server;
  forward::Purpose purpose{};
};
/// "GROUP/SERVER"
std::string full_name(const plan::Group& group, const plan::Server& server);

/// Whether it is a code that answers a request of another.
bool answers(wire::Code reply, wire::Code request);

/// What is wrong with the reply's authenticators, empty if nothing is.
///   request  the Request Authenticator of what was asked
///   asked    its code
std::string_view not_genuine(const wire::PacketView& reply, const wire::Authenticator& request,
                             const plan::Server& server, wire::Code asked);

/// Why a server may be silent.
inline constexpr std::string_view kWhySilent =
    "it is switched off, or drops what comes from here: another secret, or it does not know this node";

/// What is told when it came back.
Notice up_again(const Neighbour& neighbour, Now now);
/// What is told when it went down.
///   probed  whether the node finds out by itself when it is back
Notice gone_down(const Neighbour& neighbour, const plan::Group& group, bool probed, Now now);

}  // namespace jembatan::engine
