#pragma once
#include <optional>

#include "base/ip.h"

namespace jembatan::server {

/// The process that has a UDP port at this address, like "jembatand (process 4711)"; nothing if the system
/// does not tell (another user's process, no /proc).
std::optional<std::string> udp_port_holder(const Endpoint& endpoint);

}  // namespace jembatan::server
