#include "server/port_holder.h"

#include <fmt/format.h>

#include <filesystem>
#include <fstream>
#include <set>
#include <sstream>

#include "base/text.h"

namespace jembatan::server {
namespace {

namespace fs = std::filesystem;

// Inodes of the sockets in /proc/net/udp or udp6 that are bound to the port.
std::set<std::string> inodes_of(const char* table, std::uint16_t port) {
  std::set<std::string> out;
  std::ifstream in(table);
  std::string line;
  std::getline(in, line);
  while (std::getline(in, line)) {
    std::istringstream columns(line);
    std::string slot, local, remote, state, queues, timer, retransmits, uid, timeout, inode;
    columns >> slot >> local >> remote >> state >> queues >> timer >> retransmits >> uid >> timeout >> inode;
    if (lower(local).ends_with(fmt::format(":{:04x}", port))) out.insert(inode);
  }
  return out;
}

}  // namespace

std::optional<std::string> udp_port_holder(const Endpoint& endpoint) {
  std::set<std::string> inodes = inodes_of("/proc/net/udp", endpoint.port);
  inodes.merge(inodes_of("/proc/net/udp6", endpoint.port));
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

}  // namespace jembatan::server
