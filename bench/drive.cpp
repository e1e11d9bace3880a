// A closed-loop driver: several sockets, each with a window of requests under way, for a time.
//   jembatan_drive PORT SECONDS SERVER-PROCESS
// Prints: answers, seconds, the server's CPU seconds in that time.
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <array>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <fstream>
#include <string>
#include <vector>

#include "wire/authenticator.h"
#include "wire/builder.h"
#include "wire/hidden.h"

namespace {

using namespace jembatan;
using Clock = std::chrono::steady_clock;

constexpr std::size_t kSockets = 8;
constexpr std::size_t kWindow = 16;
constexpr std::size_t kPrepared =
    4096;  // per socket: enough that an Identifier comes back with another authenticator

const wire::SharedSecret& secret() {
  static const wire::SharedSecret the_secret(Secret("bench-secret-of-32-characters-ok"));
  return the_secret;
}

Octets request(std::uint32_t socket, std::uint32_t number) {
  wire::Authenticator authenticator{};
  store32(authenticator.data(), number + 1);
  store32(authenticator.data() + 4, socket);
  store32(authenticator.data() + 8, static_cast<std::uint32_t>(getpid()));
  store32(authenticator.data() + 12, static_cast<std::uint32_t>(Clock::now().time_since_epoch().count()));
  wire::PacketBuilder packet(wire::Code::access_request, static_cast<std::uint8_t>(number), authenticator);
  (void)packet.add_message_authenticator();
  (void)packet.add(wire::AttributeType::user_name, std::string_view("tamu@reef.example"));
  const auto password = wire::hide_password(view_of(std::string_view("ombak-3")), authenticator, secret());
  (void)packet.add(wire::AttributeType::user_password, OctetView(*password));
  (void)packet.add(wire::AttributeType::nas_identifier, std::string_view("bench"));
  const OctetSpan octets = packet.finish();
  wire::sign_request(octets, secret());
  return {octets.begin(), octets.end()};
}

// User and system time of a process and its threads, in seconds.
double cpu_seconds(const std::string& process) {
  std::ifstream in("/proc/" + process + "/stat");
  std::string text((std::istreambuf_iterator<char>(in)), {});
  text = text.substr(text.rfind(')') + 2);
  unsigned long user = 0;
  unsigned long system = 0;
  std::sscanf(text.c_str(), "%*c %*d %*d %*d %*d %*d %*u %*u %*u %*u %*u %lu %lu", &user, &system);
  return static_cast<double>(user + system) / static_cast<double>(sysconf(_SC_CLK_TCK));
}

struct Peer {
  int fd = -1;
  std::vector<Octets> requests;
  std::size_t next = 0;

  void send(std::size_t count) {
    std::array<mmsghdr, 64> headers{};
    std::array<iovec, 64> pieces{};
    for (std::size_t i = 0; i < count; ++i) {
      Octets& octets = requests[next++ % requests.size()];
      pieces[i] = {octets.data(), octets.size()};
      headers[i].msg_hdr.msg_iov = &pieces[i];
      headers[i].msg_hdr.msg_iovlen = 1;
    }
    sendmmsg(fd, headers.data(), static_cast<unsigned>(count), 0);
  }
  std::size_t receive() const {
    static std::array<std::array<char, 4096>, 64> octets;
    std::array<mmsghdr, 64> headers{};
    std::array<iovec, 64> pieces{};
    for (std::size_t i = 0; i < 64; ++i) {
      pieces[i] = {octets[i].data(), octets[i].size()};
      headers[i].msg_hdr.msg_iov = &pieces[i];
      headers[i].msg_hdr.msg_iovlen = 1;
    }
    const int count = recvmmsg(fd, headers.data(), 64, MSG_DONTWAIT, nullptr);
    return count > 0 ? static_cast<std::size_t>(count) : 0;
  }
};

}  // namespace

int main(int argc, char** argv) {
  if (argc != 4) {
    std::fprintf(stderr, "usage: jembatan_drive PORT SECONDS SERVER-PROCESS\n");
    return 2;
  }
  sockaddr_in to{};
  to.sin_family = AF_INET;
  to.sin_port = htons(static_cast<std::uint16_t>(std::atoi(argv[1])));
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  std::vector<Peer> peers(kSockets);
  std::vector<pollfd> waits;
  for (std::uint32_t i = 0; i < kSockets; ++i) {
    peers[i].fd = ::socket(AF_INET, SOCK_DGRAM, 0);
    if (::connect(peers[i].fd, reinterpret_cast<const sockaddr*>(&to), sizeof(to)) != 0) return 1;
    for (std::uint32_t n = 0; n < kPrepared; ++n) peers[i].requests.push_back(request(i, n));
    waits.push_back({peers[i].fd, POLLIN, 0});
  }
  const double cpu_before = cpu_seconds(argv[3]);
  const auto start = Clock::now();
  const auto until = start + std::chrono::duration<double>(std::atof(argv[2]));
  for (Peer& peer : peers) peer.send(kWindow);
  std::uint64_t answers = 0;
  while (Clock::now() < until) {
    if (poll(waits.data(), waits.size(), 100) == 0) {  // answers were lost: open the windows anew
      for (Peer& peer : peers) peer.send(kWindow);
      continue;
    }
    for (Peer& peer : peers) {
      const std::size_t got = peer.receive();
      answers += got;
      if (got > 0) peer.send(got);
    }
  }
  const double seconds = std::chrono::duration<double>(Clock::now() - start).count();
  std::printf("%llu %.3f %.3f\n", static_cast<unsigned long long>(answers), seconds,
              cpu_seconds(argv[3]) - cpu_before);
}
