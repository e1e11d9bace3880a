#pragma once
// Whom `ask` asks: an address with its secret, a node as one of its clients, or a server as a node would.
#include "base/ip.h"
#include "base/secret.h"
#include "cli/command.h"

namespace jembatan::cli {

struct Peer {
  Endpoint to;
  std::string from;  ///< local address; empty: the system chooses
  Secret secret;
  std::string called;  ///< "192.0.2.1:1812", "node hub (127.0.20.1:1812) as client kerapu-deck-2"
};

enum class PortOf : std::uint8_t {
  access,
  accounting,
  authorization,  ///< of a device: RFC 5176
};

/// --to, --lab, --node, --client, --server, --secret-file, --secret, --from.
std::vector<Option> peer_options();

/// Whom a Disconnect-Request or CoA-Request goes to: --to with a secret, or --client of a node.
std::vector<Option> device_options();

/// Who the options name; with PortOf::authorization, a client of the node is the one that is asked. Addresses
/// and secrets of clients and servers come from the node, which puts on record that they were shown.
///   errors  Errc::malformed: none or several are named; Errc::not_found; Errc::unreachable: the node
Result<Peer> find_peer(const Arguments& arguments, PortOf port);

/// The device that is to be played: a client of a node's plan, or --at an address; `to` is where it listens.
///   errors  as find_peer
Result<Peer> find_played_device(const Arguments& arguments);

}  // namespace jembatan::cli
