#include "host/port_holder.h"

#include <fmt/format.h>

#include <cerrno>
#include <cstring>
#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>

#include "base/text.h"

namespace jembatan::host {
namespace {

namespace fs = std::filesystem;

// An address as /proc/net writes it: words of 32 bits, each as this machine stores it.
std::optional<IpAddress> read_address(std::string_view hex) {
  if (hex.size() != 8 && hex.size() != 32) return std::nullopt;
  const auto octets = from_hex(hex);
  if (!octets) return std::nullopt;
  std::array<std::uint8_t, 16> out{};
  for (std::size_t i = 0; i < octets->size(); i += 4) {
    const std::uint32_t word = load32(octets->data() + i);
    std::memcpy(out.data() + i, &word, 4);
  }
  return octets->size() == 4 ? IpAddress::from_v4(out.data()) : IpAddress::from_v6(out.data());
}

bool stands_in_the_way(const IpAddress& held, const IpAddress& wanted) {
  if (held.unspecified()) return held.family == wanted.family || held.family == Family::v6;
  return held == wanted || (wanted.unspecified() && held.family == wanted.family);
}

// Inodes of the sockets in a table of /proc/net that are bound to the address and port.
std::set<std::string> inodes_of(const std::string& table, const Endpoint& wanted, Transport transport) {
  static constexpr std::string_view kListening = "0A";
  std::set<std::string> out;
  std::ifstream in(table);
  std::string line;
  std::getline(in, line);
  while (std::getline(in, line)) {
    std::istringstream columns(line);
    std::string slot, local, remote, state, queues, timer, retransmits, uid, timeout, inode;
    columns >> slot >> local >> remote >> state >> queues >> timer >> retransmits >> uid >> timeout >> inode;
    if (transport == Transport::tcp && state != kListening) continue;
    const std::size_t colon = local.find(':');
    if (colon == std::string::npos || local.substr(colon + 1) != fmt::format("{:04X}", wanted.port)) continue;
    const auto held = read_address(std::string_view(local).substr(0, colon));
    if (held && stands_in_the_way(*held, wanted.address)) out.insert(inode);
  }
  return out;
}

}  // namespace

std::optional<std::string> port_holder(const Endpoint& endpoint, Transport transport) {
  const std::string table = transport == Transport::udp ? "/proc/net/udp" : "/proc/net/tcp";
  std::set<std::string> inodes = inodes_of(table, endpoint, transport);
  inodes.merge(inodes_of(table + "6", endpoint, transport));
  std::error_code failed;
  for (fs::directory_iterator process("/proc", failed), end; !failed && process != end;
       process.increment(failed)) {
    const std::string id = process->path().filename();
    if (id.find_first_not_of("0123456789") != std::string::npos) continue;
    std::error_code hidden;
    for (fs::directory_iterator file(process->path() / "fd", hidden), last; !hidden && file != last;
         file.increment(hidden)) {
      std::error_code gone;
      const std::string target = fs::read_symlink(file->path(), gone).string();
      if (!target.starts_with("socket:[") || !inodes.contains(target.substr(8, target.size() - 9))) continue;
      std::ifstream name(process->path() / "comm");
      std::string text;
      std::getline(name, text);
      return fmt::format("{} (process {})", text, id);
    }
  }
  return std::nullopt;
}

Error bind_problem(const Endpoint& endpoint, Transport transport, int error) {
  if (error != EADDRINUSE)
    return fail(Errc::io, fmt::format("address {}: {}", endpoint.text(), std::strerror(error)));
  const auto holder = port_holder(endpoint, transport);
  return fail(Errc::conflict, fmt::format("address {}: {} port {} is in use{}", endpoint.address.text(),
                                          transport == Transport::udp ? "UDP" : "TCP", endpoint.port,
                                          holder ? " by " + *holder : " (the system does not tell by whom)"));
}

}  // namespace jembatan::host
