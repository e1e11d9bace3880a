#pragma once
// Endpoints as the system's socket calls take and give them.
#include <sys/socket.h>

#include "base/ip.h"

namespace jembatan::host {

struct SocketAddress {
  sockaddr_storage storage{};
  socklen_t length = sizeof(sockaddr_storage);

  SocketAddress() = default;
  explicit SocketAddress(const Endpoint& endpoint);
  sockaddr* generic() { return reinterpret_cast<sockaddr*>(&storage); }
};

Endpoint endpoint_of(const sockaddr_storage& storage);

}  // namespace jembatan::host
