#include "host/name_lookup.h"

#include <ares.h>
#include <fmt/format.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <memory>
#include <optional>

#include "host/socket_address.h"

namespace jembatan::host {
namespace {

constexpr int kTimeoutMs = 1000;  // of the first attempt at each name server; the second waits twice as long
constexpr int kTries = 2;
constexpr int kLookUpMs = 100;  // how often it is seen whether somebody still waits

using Channel = std::unique_ptr<ares_channeldata, decltype(&ares_destroy)>;

struct Came {
  bool done = false;
  int status = ARES_SUCCESS;
  FoundAddresses found;
};

void take(void* to, int status, int, ares_addrinfo* list) {
  Came& came = *static_cast<Came*>(to);
  came.done = true;
  came.status = status;
  const std::unique_ptr<ares_addrinfo, decltype(&ares_freeaddrinfo)> owned(list, &ares_freeaddrinfo);
  if (status != ARES_SUCCESS || list == nullptr) return;
  std::optional<int> lives;
  for (const ares_addrinfo_node* node = list->nodes; node != nullptr; node = node->ai_next) {
    sockaddr_storage storage{};
    std::copy_n(reinterpret_cast<const std::uint8_t*>(node->ai_addr), node->ai_addrlen,
                reinterpret_cast<std::uint8_t*>(&storage));
    came.found.addresses.push_back(endpoint_of(storage).address);
    lives = std::min(lives.value_or(node->ai_ttl), node->ai_ttl);
  }
  came.found.lives = std::chrono::seconds(std::max(0, lives.value_or(0)));
}

// Connecting a UDP socket sends nothing: it only asks for a route.
bool has_route(const IpAddress& address) {
  SocketAddress to({address, 9});
  const int fd = ::socket(to.storage.ss_family, SOCK_DGRAM | SOCK_CLOEXEC, 0);
  if (fd < 0) return false;
  const bool out = ::connect(fd, to.generic(), to.length) == 0;
  ::close(fd);
  return out;
}

void wait_for_octets(ares_channel channel) {
  std::array<ares_socket_t, ARES_GETSOCK_MAXNUM> sockets{};
  const int which = ares_getsock(channel, sockets.data(), ARES_GETSOCK_MAXNUM);
  std::array<pollfd, ARES_GETSOCK_MAXNUM> waits{};
  std::size_t count = 0;
  for (std::size_t i = 0; i < sockets.size(); ++i) {
    const bool reads = ARES_GETSOCK_READABLE(which, i) != 0;   // NOLINT(hicpp-signed-bitwise)
    const bool writes = ARES_GETSOCK_WRITABLE(which, i) != 0;  // NOLINT(hicpp-signed-bitwise)
    if (!reads && !writes) continue;
    waits[count++] = {sockets[i], static_cast<short>((reads ? POLLIN : 0) | (writes ? POLLOUT : 0)), 0};
  }
  ::poll(waits.data(), count, kLookUpMs);
  for (std::size_t i = 0; i < count; ++i) {
    const bool reads = (waits[i].revents & (POLLIN | POLLERR | POLLHUP)) != 0;
    const bool writes = (waits[i].revents & POLLOUT) != 0;
    ares_process_fd(channel, reads ? waits[i].fd : ARES_SOCKET_BAD, writes ? waits[i].fd : ARES_SOCKET_BAD);
  }
  ares_process_fd(channel, ARES_SOCKET_BAD, ARES_SOCKET_BAD);  // what has waited too long
}

void tidy(std::vector<IpAddress>& addresses) {
  const auto before = [](const IpAddress& a, const IpAddress& b) {
    return std::pair(a.family, a.octets) < std::pair(b.family, b.octets);
  };
  std::sort(addresses.begin(), addresses.end(), before);
  addresses.erase(std::unique(addresses.begin(), addresses.end()), addresses.end());
  if (std::any_of(addresses.begin(), addresses.end(), has_route))
    std::erase_if(addresses, [](const IpAddress& address) { return !has_route(address); });
}

}  // namespace

Result<FoundAddresses> look_up(const std::string& host, const LookUpBy& by) {
  const auto failed = [&host](const std::string& why) {
    return fail(Errc::not_found, fmt::format("host name '{}': {}", host, why));
  };
  ares_options options{};
  options.timeout = kTimeoutMs;
  options.tries = kTries;
  ares_channel made = nullptr;
  int status = ares_init_options(&made, &options, ARES_OPT_TIMEOUTMS | ARES_OPT_TRIES);
  if (status != ARES_SUCCESS) return failed(ares_strerror(status));
  const Channel channel(made, &ares_destroy);
  if (!by.name_servers.empty()) {
    status = ares_set_servers_ports_csv(channel.get(), by.name_servers.c_str());
    if (status != ARES_SUCCESS) return failed(ares_strerror(status));
  }
  Came came;
  ares_addrinfo_hints hints{};
  hints.ai_flags = ARES_AI_NOSORT;
  hints.ai_socktype = SOCK_DGRAM;
  ares_getaddrinfo(channel.get(), host.c_str(), nullptr, &hints, take, &came);
  while (!came.done) {
    if (by.given_up != nullptr && by.given_up->load()) {
      ares_cancel(channel.get());  // calls take
      break;
    }
    wait_for_octets(channel.get());
  }
  if (came.status != ARES_SUCCESS) return failed(ares_strerror(came.status));
  if (came.found.addresses.empty()) return failed("it has no address");
  tidy(came.found.addresses);
  return std::move(came.found);
}

}  // namespace jembatan::host
