// Drives a server from several sockets for a time.
//   jembatan_drive PORT SECONDS PROCESSES         as fast as it answers: a window of requests for each socket
//   jembatan_drive PORT SECONDS PROCESSES RATE    so many requests a second, whatever it answers
// PROCESSES are the server's, with commas between. Prints: answers, seconds, the server's CPU seconds in that
// time; with a rate also: requests, and the median and the 99th percentile of the times to an answer in us.
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <cstring>
#include <string>
#include <vector>

#include "processes.h"
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
  // What has come; `take` gets the Identifier of each.
  template <class Take>
  std::size_t receive(Take take) const {
    static std::array<std::array<char, 4096>, 64> octets;
    std::array<mmsghdr, 64> headers{};
    std::array<iovec, 64> pieces{};
    for (std::size_t i = 0; i < 64; ++i) {
      pieces[i] = {octets[i].data(), octets[i].size()};
      headers[i].msg_hdr.msg_iov = &pieces[i];
      headers[i].msg_hdr.msg_iovlen = 1;
    }
    const int count = recvmmsg(fd, headers.data(), 64, MSG_DONTWAIT, nullptr);
    for (int i = 0; i < count; ++i) take(static_cast<std::uint8_t>(octets[static_cast<std::size_t>(i)][1]));
    return count > 0 ? static_cast<std::size_t>(count) : 0;
  }
};

struct Came {
  std::uint64_t sent = 0;
  std::uint64_t answers = 0;
  std::vector<std::uint32_t> took_us;
};

Came closed_loop(std::vector<Peer>& peers, std::vector<pollfd>& waits, Clock::time_point until) {
  Came out;
  for (Peer& peer : peers) peer.send(kWindow);
  while (Clock::now() < until) {
    if (poll(waits.data(), waits.size(), 100) == 0) {  // answers were lost: open the windows anew
      for (Peer& peer : peers) peer.send(kWindow);
      continue;
    }
    for (Peer& peer : peers) {
      const std::size_t got = peer.receive([](std::uint8_t) {});
      out.answers += got;
      if (got > 0) peer.send(got);
    }
  }
  return out;
}

// What is due goes out socket by socket; what has come is looked at in between.
Came open_loop(std::vector<Peer>& peers, std::vector<pollfd>& waits, Clock::time_point until, double rate) {
  Came out;
  std::vector<std::array<Clock::time_point, 256>> sent(peers.size());
  const auto start = Clock::now();
  std::size_t turn = 0;
  const auto look = [&](std::size_t i) {
    const auto now = Clock::now();
    out.answers += peers[i].receive([&](std::uint8_t identifier) {
      const auto took = std::chrono::duration_cast<std::chrono::microseconds>(now - sent[i][identifier]);
      out.took_us.push_back(static_cast<std::uint32_t>(took.count()));
    });
  };
  for (auto now = start; now < until; now = Clock::now()) {
    const auto due = static_cast<std::uint64_t>(std::chrono::duration<double>(now - start).count() * rate);
    while (out.sent < due) {
      Peer& peer = peers[turn % peers.size()];
      const std::size_t count = std::min<std::uint64_t>(8, due - out.sent);
      for (std::size_t i = 0; i < count; ++i)
        sent[turn % peers.size()][static_cast<std::uint8_t>(peer.next + i)] = now;
      peer.send(count);
      out.sent += count;
      ++turn;
    }
    poll(waits.data(), waits.size(), 1);
    for (std::size_t i = 0; i < peers.size(); ++i) look(i);
  }
  poll(nullptr, 0, 300);
  for (int more = 0; more < 8; ++more)
    for (std::size_t i = 0; i < peers.size(); ++i) look(i);
  std::sort(out.took_us.begin(), out.took_us.end());
  return out;
}

}  // namespace

int main(int argc, char** argv) {
  if (argc != 4 && argc != 5) {
    std::fprintf(stderr, "usage: jembatan_drive PORT SECONDS PROCESSES [RATE]\n");
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
  const double cpu_before = bench::cpu_seconds(argv[3]);
  const auto start = Clock::now();
  const auto until =
      start + std::chrono::duration_cast<Clock::duration>(std::chrono::duration<double>(std::atof(argv[2])));
  const Came came =
      argc == 4 ? closed_loop(peers, waits, until) : open_loop(peers, waits, until, std::atof(argv[4]));
  const double seconds = std::chrono::duration<double>(Clock::now() - start).count();
  std::printf("%llu %.3f %.3f", static_cast<unsigned long long>(came.answers), seconds,
              bench::cpu_seconds(argv[3]) - cpu_before);
  if (argc == 5) {
    const auto& took = came.took_us;
    std::printf(" %llu %u %u", static_cast<unsigned long long>(came.sent),
                took.empty() ? 0 : took[took.size() / 2], took.empty() ? 0 : took[took.size() * 99 / 100]);
  }
  std::printf("\n");
}
