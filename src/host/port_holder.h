#pragma once
#include <optional>

#include "base/ip.h"

namespace jembatan::host {

enum class Transport : std::uint8_t { udp, tcp };

/// The process that keeps others from this address and port, like "jembatand (process 4711)": the one that
/// has the same address, or all addresses, or one of them if all are asked for. Nothing if the system does
/// not tell (another user's process, no /proc).
std::optional<std::string> port_holder(const Endpoint& endpoint, Transport transport);

/// The error of an address that could not be bound: errno's, with the holder if it is in use.
Error bind_problem(const Endpoint& endpoint, Transport transport, int error);

}  // namespace jembatan::host
