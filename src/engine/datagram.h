#pragma once
// What arrives, and where.
#include "forward/health.h"

namespace jembatan::engine {

/// A datagram as it arrived.
struct Datagram {
  std::uint16_t listener = 0;  ///< index into Settings::listeners
  Endpoint from;
  IpAddress to;  ///< the local address it was sent to
  OctetView octets;
};

/// Where requests are received.
struct Listening {
  forward::Purpose purpose{};
  Endpoint at;
};

}  // namespace jembatan::engine
