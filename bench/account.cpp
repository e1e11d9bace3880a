// Measures accounting.
//   jembatan_account ask PORT SECONDS IN_FLIGHT PROCESSES   sends records, so many at a time, and counts
//   answers jembatan_account append FOLDER SECONDS GROUP            raw: writes groups of records to a file,
//   a sync each jembatan_account inbox FOLDER SECONDS GROUP             the same through the inbox, a commit
//   each
// PROCESSES are the server's, with commas between. Prints: records, seconds, the median and the 99th
// percentile of the times to an answer (to a sync) in us, and the CPU seconds of the processes.
#include <fcntl.h>
#include <netinet/in.h>
#include <poll.h>
#include <sys/socket.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cstdio>
#include <cstdlib>
#include <ctime>
#include <fstream>
#include <sstream>
#include <string>
#include <vector>

#include "processes.h"
#include "store/inbox.h"
#include "wire/authenticator.h"
#include "wire/builder.h"

namespace {

using namespace jembatan;
using Ticks = std::chrono::steady_clock;

const wire::SharedSecret kSecret(Secret("bench-secret-of-32-characters-ok"));

const auto kBegan = static_cast<std::uint32_t>(std::time(nullptr));

// A session's Start, Interim-Update and Stop after each other; each record is one of its own.
Octets record(std::uint8_t identifier, std::uint64_t number) {
  constexpr std::array kStatus{1U, 3U, 2U};
  wire::PacketBuilder packet(wire::Code::accounting_request, identifier, {});
  std::array<std::uint8_t, 4> word{};
  const auto add = [&](wire::AttributeType type, std::uint32_t value) {
    store32(word.data(), value);
    (void)packet.add(type, OctetView(word));
  };
  const std::uint64_t session = number / kStatus.size();
  const auto minute = static_cast<std::uint32_t>(number % kStatus.size());
  add(wire::AttributeType::acct_status_type, kStatus[minute]);
  (void)packet.add(wire::AttributeType::acct_session_id,
                   std::string_view(std::to_string(getpid()) + "-" + std::to_string(session)));
  (void)packet.add(wire::AttributeType::user_name,
                   std::string_view("user-" + std::to_string(session % 1000) + "@reef.example"));
  (void)packet.add(wire::AttributeType::nas_identifier, std::string_view("kerapu-deck-2"));
  add(wire::AttributeType::nas_port, static_cast<std::uint32_t>(session % 48));
  (void)packet.add(wire::AttributeType::calling_station_id, std::string_view("02-00-5E-00-53-01"));
  add(wire::AttributeType::event_timestamp, kBegan);
  add(wire::AttributeType::acct_session_time, 60 * minute);
  add(wire::AttributeType::acct_input_octets, 1000 * minute);
  add(wire::AttributeType::acct_output_octets, 5000 * minute);
  const OctetSpan octets = packet.finish();
  wire::sign_digested_request(octets, kSecret);
  return {octets.begin(), octets.end()};
}

struct Came {
  std::uint64_t records = 0;
  std::vector<std::uint32_t> took_us;
  void took(Ticks::time_point since) {
    const auto passed = std::chrono::duration_cast<std::chrono::microseconds>(Ticks::now() - since);
    took_us.push_back(static_cast<std::uint32_t>(passed.count()));
  }
};

struct Peer {
  int fd = -1;
  std::array<Ticks::time_point, 256> sent{};
  std::array<bool, 256> waits{};
  std::uint8_t next = 0;

  void send(std::uint64_t number) {
    while (waits[next]) ++next;
    const Octets octets = record(next, number);
    waits[next] = true;
    sent[next] = Ticks::now();
    (void)!::send(fd, octets.data(), octets.size(), 0);
    ++next;
  }
};

Came ask(const char* port, Ticks::time_point until, std::size_t in_flight) {
  sockaddr_in to{};
  to.sin_family = AF_INET;
  to.sin_port = htons(static_cast<std::uint16_t>(std::atoi(port)));
  to.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  std::vector<Peer> peers(std::min<std::size_t>(in_flight, 8));
  std::vector<pollfd> waits;
  Came out;
  std::uint64_t number = 0;
  for (Peer& peer : peers) {
    peer.fd = ::socket(AF_INET, SOCK_DGRAM, 0);
    if (::connect(peer.fd, reinterpret_cast<const sockaddr*>(&to), sizeof(to)) != 0) return out;
    waits.push_back({peer.fd, POLLIN, 0});
    for (std::size_t i = 0; i < in_flight / peers.size(); ++i) peer.send(number++);
  }
  std::array<std::uint8_t, 4096> octets;
  while (Ticks::now() < until) {
    if (poll(waits.data(), waits.size(), 2000) == 0) break;
    for (Peer& peer : peers) {
      while (::recv(peer.fd, octets.data(), octets.size(), MSG_DONTWAIT) > 0) {
        if (!peer.waits[octets[1]]) continue;
        peer.waits[octets[1]] = false;
        out.took(peer.sent[octets[1]]);
        ++out.records;
        peer.send(number++);
      }
    }
  }
  return out;
}

Came append(const std::string& folder, Ticks::time_point until, std::size_t group) {
  const int fd = ::open((folder + "/raw").c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
  const Octets one = record(1, 1);
  Octets all;
  for (std::size_t i = 0; i < group; ++i) jembatan::append(all, one);
  Came out;
  while (Ticks::now() < until) {
    const auto since = Ticks::now();
    if (::write(fd, all.data(), all.size()) < 0 || ::fdatasync(fd) != 0) break;
    out.took(since);
    out.records += group;
  }
  ::close(fd);
  return out;
}

Came inbox(const std::string& folder, Ticks::time_point until, std::size_t group) {
  auto opened = store::Inbox::open(folder);
  const Octets packet = record(1, 1);
  accounting::Incoming one{
      *accounting::arrival_of(*wire::PacketView::parse(packet), {"bench", {}}, "", {}), true, {}};
  std::vector<accounting::Incoming> all(group, one);
  Came out;
  for (std::int64_t id = 0; opened && Ticks::now() < until;) {
    for (auto& each : all) each.arrival.id = ++id;
    const auto since = Ticks::now();
    if (!(*opened)->append(all)) break;
    out.took(since);
    out.records += group;
  }
  return out;
}

}  // namespace

int main(int argc, char** argv) {
  const std::string what = argc > 1 ? argv[1] : "";
  if (argc != (what == "ask" ? 6 : 5)) {
    std::fprintf(stderr,
                 "usage: jembatan_account ask PORT SECONDS IN_FLIGHT PROCESSES\n"
                 "       jembatan_account append|inbox FOLDER SECONDS GROUP\n");
    return 2;
  }
  const auto count = static_cast<std::size_t>(std::atoi(argv[4]));
  const std::string processes = argc == 6 ? argv[5] : "";
  const double cpu_before = bench::cpu_seconds(processes);
  const auto start = Ticks::now();
  const auto until = start + std::chrono::milliseconds(static_cast<int>(1000 * std::atof(argv[3])));
  Came came = what == "ask"      ? ask(argv[2], until, count)
              : what == "append" ? append(argv[2], until, count)
                                 : inbox(argv[2], until, count);
  const double seconds = std::chrono::duration<double>(Ticks::now() - start).count();
  std::sort(came.took_us.begin(), came.took_us.end());
  const auto at = [&](std::size_t percent) {
    return came.took_us.empty() ? 0U : came.took_us[came.took_us.size() * percent / 100];
  };
  std::printf("%llu %.3f %u %u %.3f\n", static_cast<unsigned long long>(came.records), seconds, at(50),
              at(99), bench::cpu_seconds(processes) - cpu_before);
}
