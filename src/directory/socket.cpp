#include "directory/socket.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <lber.h>
#include <netinet/in.h>
#include <netinet/tcp.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "host/name_lookup.h"
#include "host/socket_address.h"

namespace jembatan::directory {
namespace {

int milliseconds_until(TimePoint until) {
  const auto left = std::chrono::ceil<std::chrono::milliseconds>(until - std::chrono::steady_clock::now());
  return static_cast<int>(std::max<std::int64_t>(left.count(), 0));
}

// False, with errno, if it does not come to that in time.
bool is_ready(int socket, short what, TimePoint until) {
  pollfd waiting{socket, what, 0};
  int found = 0;
  do {
    found = ::poll(&waiting, 1, milliseconds_until(until));
  } while (found < 0 && errno == EINTR);
  if (found == 0) errno = ETIMEDOUT;
  return found > 0;
}

Result<int> connect_to(const Endpoint& at, TimePoint until) {
  host::SocketAddress address(at);
  const int out = ::socket(address.storage.ss_family, SOCK_STREAM | SOCK_CLOEXEC | SOCK_NONBLOCK, 0);
  if (out < 0) return fail(Errc::unreachable, std::strerror(errno));
  int error = 0;
  if (::connect(out, address.generic(), address.length) != 0) {
    socklen_t size = sizeof(error);
    error = errno;
    if (error == EINPROGRESS) {
      if (!is_ready(out, POLLOUT, until)) {
        error = errno;
      } else {
        (void)::getsockopt(out, SOL_SOCKET, SO_ERROR, &error, &size);
      }
    }
  }
  if (error != 0) {
    ::close(out);
    return fail(Errc::unreachable, error == ETIMEDOUT ? "no answer in time" : std::strerror(error));
  }
  const int on = 1;
  (void)::setsockopt(out, IPPROTO_TCP, TCP_NODELAY, &on, sizeof(on));
  (void)::setsockopt(out, SOL_SOCKET, SO_KEEPALIVE, &on, sizeof(on));
  (void)::fcntl(out, F_SETFL, ::fcntl(out, F_GETFL) & ~O_NONBLOCK);
  return out;
}

// A layer below that of TLS (RFC 4511 §5.1): lber's layers stand on each other like this.
int setup(Sockbuf_IO_Desc* layer, void* limit) {
  layer->sbiod_pvt = limit;
  return 0;
}

int remove_layer(Sockbuf_IO_Desc* /*layer*/) {
  return 0;
}

int control(Sockbuf_IO_Desc* layer, int what, void* argument) {
  return LBER_SBIOD_CTRL_NEXT(layer, what, argument);
}

Limit& limit_of(Sockbuf_IO_Desc* layer) {
  return *static_cast<Limit*>(layer->sbiod_pvt);
}

bool may_go_on(Sockbuf_IO_Desc* layer, short what) {
  ber_socket_t socket = -1;
  ber_sockbuf_ctrl(layer->sbiod_sb, LBER_SB_OPT_GET_FD, &socket);
  return is_ready(socket, what, limit_of(layer).until);
}

ber_slen_t read_below(Sockbuf_IO_Desc* layer, void* octets, ber_len_t size) {
  if (limit_of(layer).octets <= 0) errno = EMSGSIZE;
  if (limit_of(layer).octets <= 0 || !may_go_on(layer, POLLIN)) return -1;
  const ber_slen_t out = LBER_SBIOD_READ_NEXT(layer, octets, size);
  if (out > 0) limit_of(layer).octets -= out;
  return out;
}

ber_slen_t write_below(Sockbuf_IO_Desc* layer, void* octets, ber_len_t size) {
  return may_go_on(layer, POLLOUT) ? LBER_SBIOD_WRITE_NEXT(layer, octets, size) : -1;
}

Sockbuf_IO kLayer{setup, remove_layer, control, read_below, write_below, remove_layer};

}  // namespace

Result<int> connected_socket(const plan::DirectoryAccess::Server& server, Duration within) {
  std::vector<IpAddress> addresses;
  if (const auto address = IpAddress::parse(server.host)) {
    addresses.push_back(*address);
  } else {
    auto found = host::look_up(server.host);
    if (!found) return fail(Errc::unreachable, found.error().text);
    addresses = std::move(found->addresses);
  }
  const TimePoint until = std::chrono::steady_clock::now() + within;
  Result<int> out = fail(Errc::unreachable, "it has no address");
  for (const IpAddress& address : addresses) {
    out = connect_to({address, server.port}, until);
    if (out) break;
  }
  return out;
}

void hold_to(sockbuf* socket, Limit& limit) {
  constexpr int kBelowTls = LBER_SBIOD_LEVEL_TRANSPORT - 5;
  ber_sockbuf_add_io(socket, &kLayer, kBelowTls, &limit);
}

}  // namespace jembatan::directory
