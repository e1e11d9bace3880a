#include "server/udp_socket.h"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <cerrno>
#include <cstring>

#include "host/port_holder.h"
#include "host/socket_address.h"
#include "wire/packet.h"

namespace jembatan::server {
namespace {

using host::endpoint_of;
using host::SocketAddress;

constexpr int kReceiveBuffer = 8 << 20;  // the default holds some 256 requests before it drops silently
constexpr std::size_t kControl = 64;

IpAddress local_address(msghdr& header, const IpAddress& bound) {
  for (cmsghdr* c = CMSG_FIRSTHDR(&header); c != nullptr; c = CMSG_NXTHDR(&header, c)) {
    if (c->cmsg_level == IPPROTO_IP && c->cmsg_type == IP_PKTINFO) {
      const auto* info = reinterpret_cast<const in_pktinfo*>(CMSG_DATA(c));
      return IpAddress::from_v4(reinterpret_cast<const std::uint8_t*>(&info->ipi_addr));
    }
    if (c->cmsg_level == IPPROTO_IPV6 && c->cmsg_type == IPV6_PKTINFO) {
      const auto* info = reinterpret_cast<const in6_pktinfo*>(CMSG_DATA(c));
      return IpAddress::from_v6(reinterpret_cast<const std::uint8_t*>(&info->ipi6_addr));
    }
  }
  return bound;
}

template <class Info>
void set_control(msghdr& header, std::uint8_t* room, int level, int type, const Info& info) {
  header.msg_control = room;
  header.msg_controllen = CMSG_SPACE(sizeof(Info));
  cmsghdr* c = CMSG_FIRSTHDR(&header);
  c->cmsg_level = level;
  c->cmsg_type = type;
  c->cmsg_len = CMSG_LEN(sizeof(Info));
  std::memcpy(CMSG_DATA(c), &info, sizeof(Info));
}

// Lets the reply leave from the address that was asked.
void choose_source(msghdr& header, std::uint8_t* room, const IpAddress& from) {
  if (from.family == Family::v4) {
    in_pktinfo info{};
    std::memcpy(&info.ipi_spec_dst, from.octets.data(), 4);
    set_control(header, room, IPPROTO_IP, IP_PKTINFO, info);
  } else {
    in6_pktinfo info{};
    std::memcpy(&info.ipi6_addr, from.octets.data(), 16);
    set_control(header, room, IPPROTO_IPV6, IPV6_PKTINFO, info);
  }
}

void set_option(int fd, int level, int name, int value) {
  setsockopt(fd, level, name, &value, sizeof(value));
}

}  // namespace

std::optional<IpAddress> local_address_towards(const Endpoint& endpoint) {
  const int family = endpoint.address.family == Family::v4 ? AF_INET : AF_INET6;
  const int fd = ::socket(family, SOCK_DGRAM | SOCK_CLOEXEC, 0);
  SocketAddress address(endpoint);
  // Connecting a UDP socket sends nothing: it only chooses the way.
  const bool chosen = fd >= 0 && ::connect(fd, address.generic(), address.length) == 0 &&
                      ::getsockname(fd, address.generic(), &address.length) == 0;
  if (fd >= 0) ::close(fd);
  if (!chosen) return std::nullopt;
  return endpoint_of(address.storage).address;
}

struct ReceiveBatch::Room {
  std::array<mmsghdr, kMost> headers{};
  std::array<iovec, kMost> pieces{};
  std::array<sockaddr_storage, kMost> from{};
  std::array<std::array<std::uint8_t, kControl>, kMost> control{};
  std::array<std::array<std::uint8_t, wire::kMaxPacket>, kMost> octets{};
};

ReceiveBatch::ReceiveBatch() : room_(std::make_unique<Room>()) {}
ReceiveBatch::~ReceiveBatch() = default;
ReceiveBatch::ReceiveBatch(ReceiveBatch&&) noexcept = default;

Result<UdpSocket> UdpSocket::bind(const Endpoint& endpoint, SharePort share) {
  const int family = endpoint.address.family == Family::v4 ? AF_INET : AF_INET6;
  const int fd = ::socket(family, SOCK_DGRAM | SOCK_NONBLOCK | SOCK_CLOEXEC, 0);
  if (fd < 0) return fail(Errc::io, fmt::format("address {}: {}", endpoint.text(), std::strerror(errno)));
  UdpSocket out(fd, endpoint);
  if (share == SharePort::yes) set_option(fd, SOL_SOCKET, SO_REUSEPORT, 1);
  set_option(fd, SOL_SOCKET, SO_RCVBUF, kReceiveBuffer);
  set_option(fd, SOL_SOCKET, SO_RCVBUFFORCE, kReceiveBuffer);
  if (family == AF_INET6) set_option(fd, IPPROTO_IPV6, IPV6_V6ONLY, 1);
  if (endpoint.address.unspecified()) {
    set_option(fd, IPPROTO_IP, IP_PKTINFO, 1);
    if (family == AF_INET6) set_option(fd, IPPROTO_IPV6, IPV6_RECVPKTINFO, 1);
  }
  SocketAddress address(endpoint);
  if (::bind(fd, address.generic(), address.length) == 0) return out;
  return host::bind_problem(endpoint, host::Transport::udp, errno);
}

UdpSocket::UdpSocket(UdpSocket&& other) noexcept : fd_(std::exchange(other.fd_, -1)), bound_(other.bound_) {}

UdpSocket& UdpSocket::operator=(UdpSocket&& other) noexcept {
  std::swap(fd_, other.fd_);
  std::swap(bound_, other.bound_);
  return *this;
}

UdpSocket::~UdpSocket() {
  if (fd_ >= 0) ::close(fd_);
}

Endpoint UdpSocket::local() const {
  sockaddr_storage storage{};
  socklen_t length = sizeof(storage);
  if (getsockname(fd_, reinterpret_cast<sockaddr*>(&storage), &length) != 0) return bound_;
  return endpoint_of(storage);
}

std::span<const Received> UdpSocket::receive(ReceiveBatch& batch) {
  ReceiveBatch::Room& room = *batch.room_;
  const bool with_control = bound_.address.unspecified();
  for (std::size_t i = 0; i < ReceiveBatch::kMost; ++i) {
    room.pieces[i] = {room.octets[i].data(), room.octets[i].size()};
    msghdr& header = room.headers[i].msg_hdr;
    header = {};
    header.msg_name = &room.from[i];
    header.msg_namelen = sizeof(room.from[i]);
    header.msg_iov = &room.pieces[i];
    header.msg_iovlen = 1;
    if (with_control) {
      header.msg_control = room.control[i].data();
      header.msg_controllen = room.control[i].size();
    }
  }
  batch.received_.clear();
  const int count = recvmmsg(fd_, room.headers.data(), ReceiveBatch::kMost, MSG_DONTWAIT, nullptr);
  for (int i = 0; i < count; ++i) {
    const auto at = static_cast<std::size_t>(i);
    const IpAddress to =
        with_control ? local_address(room.headers[at].msg_hdr, bound_.address) : bound_.address;
    batch.received_.push_back(
        {endpoint_of(room.from[at]), to, OctetView(room.octets[at]).first(room.headers[at].msg_len)});
  }
  return batch.received_;
}

std::size_t UdpSocket::send(std::span<const Outgoing> datagrams) {
  constexpr std::size_t kAtOnce = 64;
  std::array<mmsghdr, kAtOnce> headers;
  std::array<iovec, kAtOnce> pieces;
  std::array<SocketAddress, kAtOnce> to;  // what the system reads of it is written below
  alignas(cmsghdr) std::array<std::array<std::uint8_t, kControl>, kAtOnce> control;
  std::size_t taken = 0;
  while (!datagrams.empty()) {
    const std::size_t count = std::min(datagrams.size(), kAtOnce);
    for (std::size_t i = 0; i < count; ++i) {
      const Outgoing& datagram = datagrams[i];
      to[i] = SocketAddress(datagram.to);
      pieces[i] = {const_cast<std::uint8_t*>(datagram.octets.data()), datagram.octets.size()};
      msghdr& header = headers[i].msg_hdr;
      header = {};
      header.msg_name = &to[i].storage;
      header.msg_namelen = to[i].length;
      header.msg_iov = &pieces[i];
      header.msg_iovlen = 1;
      if (bound_.address.unspecified() && !datagram.from.unspecified()) {
        control[i].fill(0);
        choose_source(header, control[i].data(), datagram.from);
      }
    }
    const int sent = sendmmsg(fd_, headers.data(), static_cast<unsigned>(count), 0);
    if (sent < 0 && errno == EINTR) continue;
    // The first one was refused: it is lost, the others may still go.
    const std::size_t done = sent > 0 ? static_cast<std::size_t>(sent) : 1;
    taken += sent > 0 ? done : 0;
    datagrams = datagrams.subspan(done);
  }
  return taken;
}

}  // namespace jembatan::server
