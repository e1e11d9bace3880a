// A bare echo server: recvmmsg, sendmmsg, nothing between. The floor that the server is measured against.
//   jembatan_echo PORT
#include <netinet/in.h>
#include <sys/socket.h>

#include <array>
#include <cstdint>
#include <cstdio>
#include <cstdlib>

int main(int argc, char** argv) {
  if (argc != 2) return 2;
  const int fd = ::socket(AF_INET, SOCK_DGRAM, 0);
  const int buffer = 8 << 20;
  setsockopt(fd, SOL_SOCKET, SO_RCVBUF, &buffer, sizeof(buffer));
  setsockopt(fd, SOL_SOCKET, SO_RCVBUFFORCE, &buffer, sizeof(buffer));
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(std::atoi(argv[1])));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (::bind(fd, reinterpret_cast<sockaddr*>(&address), sizeof(address)) != 0) return 1;
  constexpr unsigned kMost = 64;
  static std::array<std::array<char, 4096>, kMost> octets;
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
    for (int i = 0; i < count; ++i)
      pieces[static_cast<unsigned>(i)].iov_len = headers[static_cast<unsigned>(i)].msg_len;
    if (count > 0) sendmmsg(fd, headers.data(), static_cast<unsigned>(count), 0);
  }
}
