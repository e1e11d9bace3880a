#include "lab/world.h"

#include <fmt/format.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <fstream>
#include <map>
#include <regex>

#include "base/embedded.h"
#include "host/system.h"
#include "lab/hosts.h"

namespace jembatan::lab {
namespace {

namespace fs = std::filesystem;

constexpr std::uint32_t kLowestPort = 4096;
constexpr std::uint32_t kHighestPort = 16384;

// A port that is free for UDP and TCP at this moment; below those that the system gives to whoever asks for
// none in particular (ip(7), ip_local_port_range): it would be taken again before it is used.
int free_port() {
  host::SystemRandom random;
  for (int tries = 0; tries < 1000; ++tries) {
    const auto port = static_cast<std::uint16_t>(kLowestPort + random.below(kHighestPort - kLowestPort));
    const int udp = ::socket(AF_INET, SOCK_DGRAM, 0);
    const int tcp = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_port = htons(port);
    auto* generic = reinterpret_cast<sockaddr*>(&address);
    const bool both =
        ::bind(udp, generic, sizeof(address)) == 0 && ::bind(tcp, generic, sizeof(address)) == 0;
    ::close(udp);
    ::close(tcp);
    if (both) return port;
  }
  return 0;
}

// Replaces the demo's well-known ports, each by the same free one wherever it stands.
class Ports {
 public:
  std::string replaced(std::string_view text) {
    static const std::regex kKnown(R"(\b(1389|1812|1813|3799|8812)\b)");
    std::string out;
    const std::string whole(text);
    auto at = whole.cbegin();
    for (std::sregex_iterator it(whole.begin(), whole.end(), kKnown), end; it != end; ++it) {
      out.append(at, whole.cbegin() + it->position());
      std::string& port = chosen_[it->str()];
      if (port.empty()) port = std::to_string(free_port());
      out += port;
      at = whole.cbegin() + it->position() + it->length();
    }
    return out.append(at, whole.cend());
  }

 private:
  std::map<std::string, std::string> chosen_;
};

// A node of the lab listens at the next address: its stand-in has the one that the demo tells.
std::string behind_stand_in(std::string text) {
  static const std::regex kListens(R"((access|accounting|authorization)( = \["127\.0\.[0-9]+\.)1:)");
  return std::regex_replace(
      text, kListens, "# its stand-in in the lab listens at the address before: jembatan lab fault\n$1$022:");
}

// Servers are asked at their addresses on the bridge, from there.
std::string across_the_water(const std::string& text) {
  static const std::regex kServer(
      R"((\[\[group\.server\]\]\nname = "[^"]*"\naddress = ")127\.0\.([0-9]+)\.1")");
  static const std::regex kSendFrom(R"((send_from = \[")127\.0\.([0-9]+)\.1")");
  return std::regex_replace(std::regex_replace(text, kServer, "$01192.0.2.$02\""), kSendFrom,
                            "$01192.0.2.$02\"");
}

std::string with_folder(const std::string& text, const fs::path& folder) {
  static const std::regex kFolder(R"(\bFOLDER\b)");
  return std::regex_replace(text, kFolder, folder.string());
}

}  // namespace

Status write_demo(const fs::path& root, const World& world) {
  Ports ports;
  const auto write = [&](const EmbeddedFile& file, std::ios::openmode how) -> Status {
    const fs::path path = root / file.name;
    std::error_code failed;
    fs::create_directories(path.parent_path(), failed);
    std::ofstream out(path, std::ios::binary | how);
    std::string text = world.free_ports ? ports.replaced(file.text) : std::string(file.text);
    if (world.hosts) text = across_the_water(text);
    if (path.filename() == "slapd.conf") text = with_folder(text, path.parent_path());
    out << (path.filename() == "node.toml" ? behind_stand_in(std::move(text)) : text);
    out.close();
    if (failed || !out) return fail(Errc::io, fmt::format("file '{}' cannot be written", path.string()));
    const bool secret = path.parent_path().filename() == "secrets";
    if (secret) fs::permissions(path, fs::perms::owner_read | fs::perms::owner_write, failed);
    return {};
  };
  for (const EmbeddedFile& file : demo_world())
    if (const Status s = write(file, std::ios::trunc); !s) return s;
  const auto add = [&](std::span<const EmbeddedFile> files) -> Status {
    for (const EmbeddedFile& file : files)
      if (const Status s = write(file, std::ios::app); !s) return s;
    return {};
  };
  if (world.two_hubs)
    if (const Status s = add(shared_world()); !s) return s;
  if (world.directory)
    if (const Status s = add(directory_world()); !s) return s;
  if (world.factors)
    if (const Status s = add(factors_world()); !s) return s;
  if (world.hosts) std::ofstream(root / kHostsFile) << "\n";
  return {};
}

}  // namespace jembatan::lab
