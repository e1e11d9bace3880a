#pragma once
// Endpoints as the system's socket calls take and give them.
#include <sys/socket.h>

#include "base/ip.h"

namespace jembatan::host {

struct SocketAddress {
  sockaddr_storage storage;  ///< beyond `length` it is undefined: clearing it all costs more than the rest
  socklen_t length = sizeof(sockaddr_storage);

  SocketAddress() {}  // NOLINT(modernize-use-equals-default): with it, {} would clear
  explicit SocketAddress(const Endpoint& endpoint);
  sockaddr* generic() { return reinterpret_cast<sockaddr*>(&storage); }
};

Endpoint endpoint_of(const sockaddr_storage& storage);

}  // namespace jembatan::host
