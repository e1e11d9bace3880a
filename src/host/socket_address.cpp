#include "host/socket_address.h"

#include <netinet/in.h>

#include <cstring>
#include <new>

namespace jembatan::host {

SocketAddress::SocketAddress(const Endpoint& endpoint) {
  if (endpoint.address.family == Family::v4) {
    auto* v4 = new (&storage) sockaddr_in{};
    v4->sin_family = AF_INET;
    v4->sin_port = htons(endpoint.port);
    std::memcpy(&v4->sin_addr, endpoint.address.octets.data(), 4);
    length = sizeof(sockaddr_in);
  } else {
    auto* v6 = new (&storage) sockaddr_in6{};
    v6->sin6_family = AF_INET6;
    v6->sin6_port = htons(endpoint.port);
    std::memcpy(&v6->sin6_addr, endpoint.address.octets.data(), 16);
    length = sizeof(sockaddr_in6);
  }
}

Endpoint endpoint_of(const sockaddr_storage& storage) {
  if (storage.ss_family == AF_INET) {
    const auto& v4 = reinterpret_cast<const sockaddr_in&>(storage);
    return {IpAddress::from_v4(reinterpret_cast<const std::uint8_t*>(&v4.sin_addr)), ntohs(v4.sin_port)};
  }
  const auto& v6 = reinterpret_cast<const sockaddr_in6&>(storage);
  return {IpAddress::from_v6(reinterpret_cast<const std::uint8_t*>(&v6.sin6_addr)), ntohs(v6.sin6_port)};
}

}  // namespace jembatan::host
