#include "server/host_names.h"

#include <fmt/format.h>
#include <netdb.h>
#include <netinet/in.h>

#include "server/log.h"

namespace jembatan::server {

Result<IpAddress> look_up(const std::string& host) {
  addrinfo wanted{};
  wanted.ai_socktype = SOCK_DGRAM;
  addrinfo* found = nullptr;
  const int failed = getaddrinfo(host.c_str(), nullptr, &wanted, &found);
  if (failed != 0)
    return fail(Errc::not_found, fmt::format("host name '{}': {}", host, gai_strerror(failed)));
  const auto* octets = reinterpret_cast<const std::uint8_t*>(found->ai_addr);
  const IpAddress out = found->ai_family == AF_INET6
                            ? IpAddress::from_v6(octets + offsetof(sockaddr_in6, sin6_addr))
                            : IpAddress::from_v4(octets + offsetof(sockaddr_in, sin_addr));
  freeaddrinfo(found);
  return out;
}

Result<IpAddress> HostNames::address_of(const std::string& host) {
  auto found = look_up_(host);
  if (found) return found;
  const std::lock_guard lock(mutex_);
  const auto known = known_.find(host);
  if (known == known_.end()) return found;
  log_warning(fmt::format("{}; its last known address {} is used", found.error().text, known->second.text()));
  return known->second;
}

void HostNames::remember(const plan::Plan& plan) {
  const std::lock_guard lock(mutex_);
  for (const plan::Client& client : plan.clients) {
    if (!client.host.empty()) known_[client.host] = client.address.address;
  }
}

}  // namespace jembatan::server
