#pragma once
// recvmmsg, something in between, sendmmsg: for servers that measure others.
#include <netinet/in.h>
#include <sys/socket.h>

#include <array>
#include <cstdint>
#include <cstdlib>
#include <span>

namespace jembatan::bench {

/// Never returns, unless the port cannot be used.
///   answer  gets a datagram with room behind it; gives the size of what goes back in its place
template <class Answer>
int serve(const char* port, Answer answer) {
  const int fd = ::socket(AF_INET, SOCK_DGRAM, 0);
  const int buffer = 8 << 20;
  setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &buffer, sizeof(buffer));
  setsockopt(fd, SOL_SOCKET, SO_RCVBUFFORCE, &buffer, sizeof(buffer));
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(std::atoi(port)));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (::bind(fd, reinterpret_cast<sockaddr*>(&address), sizeof(address)) != 0) return 1;
  constexpr unsigned kMost = 64;
  static std::array<std::array<std::uint8_t, 4096>, kMost> octets;
  std::array<mmsghdr, kMost> headers{};
  std::array<iovec, kMost> pieces{};
  std::array<sockaddr_in, kMost> from{};
  while (true) {
    for (unsigned i = 0; i < kMost; ++i) {
      pieces[i] = {octets[i].data(), octets[i].size()};
      headers[i].msg_hdr = {};
      headers[i].msg_hdr.msg_name = &from[i];
      headers[i].msg_hdr.msg_namelen = sizeof(from[i]);
      headers[i].msg_hdr.msg_iov = &pieces[i];
      headers[i].msg_hdr.msg_iovlen = 1;
    }
    const int count = recvmmsg(fd, headers.data(), kMost, MSG_WAITFORONE, nullptr);
    for (unsigned i = 0; static_cast<int>(i) < count; ++i)
      pieces[i].iov_len = answer(std::span(octets[i]), std::size_t{headers[i].msg_len});
    if (count > 0) sendmmsg(fd, headers.data(), static_cast<unsigned>(count), 0);
  }
}

}  // namespace jembatan::bench
