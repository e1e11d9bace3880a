#include "lab/hosts.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sched.h>
#include <unistd.h>

#include <algorithm>
#include <cstdlib>
#include <filesystem>
#include <fstream>

#include "base/text.h"
#include "base/text_hash.h"
#include "document/parse.h"
#include "lab/lab.h"
#include "lab/processes.h"

namespace jembatan::lab {
namespace {

namespace fs = std::filesystem;

constexpr const char* kCutsFile = "cuts";
constexpr const char* kDevice = "sea";
constexpr const char* kNobody = "02:00:00:00:00:00";  // no device of the lab has it

// Labs in several folders have namespaces of their own.
std::string lab_namespace(const std::string& of) {
  const std::uint64_t number = stable_number(folder().string());
  return fmt::format("jembatan-{:04x}-{}", number & 0xFFFFU, of);
}

fs::path file_of(const std::string& name) {
  return fs::path("/run/netns") / name;
}

// 127.0.20.1 of the demo's node file.
Result<IpAddress> address_of(const std::string& node) {
  document::Problems problems;
  const auto settings = host::read_node_file(folder() / node / "node.toml", problems);
  if (!settings) return fail(Errc::malformed, problems.text());
  return on_the_water(settings->management.address);
}

Status run_all(const std::vector<std::vector<std::string>>& commands) {
  for (const std::vector<std::string>& words : commands) {
    if (const Status done = run(words); !done) return done;
  }
  return {};
}

Status make_bridge(const std::string& strait) {
  if (fs::exists(file_of(strait))) return {};
  return run_all({{"ip", "netns", "add", strait},
                  {"ip", "-n", strait, "link", "add", "bridge", "type", "bridge"},
                  {"ip", "-n", strait, "link", "set", "bridge", "up"}});
}

Status make_host(const std::string& node, const std::string& strait) {
  const std::string name = lab_namespace(node);
  if (fs::exists(file_of(name))) return {};
  const auto address = address_of(node);
  if (!address) return address.error();
  return run_all(
      {{"ip", "netns", "add", name},
       {"ip", "-n", name, "link", "set", "lo", "up"},
       {"ip", "-n", name, "link", "add", kDevice, "type", "veth", "peer", "name", node, "netns", strait},
       {"ip", "-n", strait, "link", "set", node, "master", "bridge", "up"},
       {"ip", "-n", name, "address", "add", address->text() + "/24", "dev", kDevice},
       {"ip", "-n", name, "link", "set", kDevice, "up"}});
}

Status write_cuts(const std::vector<Link>& links) {
  std::ofstream out(folder() / kCutsFile, std::ios::trunc);
  for (const auto& [one, other] : links) out << one << " " << other << "\n";
  out.close();
  return out ? Status{} : fail(Errc::io, "the lab's folder cannot be written");
}

// Both nodes, checked and in order.
Result<Link> link_of(const std::string& one, const std::string& other) {
  const std::vector<std::string> nodes = node_names();
  for (const std::string& node : {one, other}) {
    if (std::find(nodes.begin(), nodes.end(), node) == nodes.end())
      return fail(Errc::not_found, fmt::format("node '{}'; allowed: {}", escaped(node), join(nodes, ", ")));
    if (!fs::exists(file_of(lab_namespace(node))))
      return fail(Errc::conflict,
                  "the lab's nodes are no machines of their own: sudo jembatan lab up --hosts --fresh");
  }
  if (one == other) return fail(Errc::malformed, fmt::format("node '{}' has no link to itself", one));
  return Link{std::min(one, other), std::max(one, other)};
}

// What one node sends to the other goes to nobody.
Status divert(const std::string& from, const std::string& to, bool away) {
  const auto address = address_of(to);
  if (!address) return address.error();
  std::vector<std::string> words{
      "ip", "-n", lab_namespace(from), "neighbour", away ? "replace" : "delete", address->text()};
  if (away) words.insert(words.end(), {"lladdr", kNobody, "nud", "permanent"});
  words.insert(words.end(), {"dev", kDevice});
  return run(words);
}

}  // namespace

IpAddress on_the_water(const IpAddress& demo) {
  if (demo.family != Family::v4 || demo.octets[0] != 127 || demo.octets[1] != 0 || demo.octets[3] != 1)
    return demo;
  const std::array<std::uint8_t, 4> octets{192, 0, 2, demo.octets[2]};
  return IpAddress::from_v4(octets.data());
}

IpAddress ashore(const IpAddress& address) {
  if (address.family != Family::v4 || address.octets[0] != 192 || address.octets[1] != 0 ||
      address.octets[2] != 2)
    return address;
  const std::array<std::uint8_t, 4> octets{127, 0, address.octets[3], 1};
  return IpAddress::from_v4(octets.data());
}

bool has_hosts() {
  return fs::exists(folder() / kHostsFile);
}

std::string namespace_of(const std::string& node) {
  const std::string name = lab_namespace(node);
  return has_hosts() && fs::exists(file_of(name)) ? name : "";
}

Status make_hosts() {
  if (::geteuid() != 0)
    return fail(Errc::not_allowed, "network namespaces take root: sudo jembatan lab up --hosts");
  const std::string strait = lab_namespace("strait");
  if (const Status made = make_bridge(strait); !made) return made;
  for (const std::string& node : node_names()) {
    if (const Status made = make_host(node, strait); !made) return made.error().at("node " + node);
  }
  return write_cuts({});
}

void remove_hosts() {
  std::vector<std::string> all = node_names();
  all.emplace_back("strait");
  for (const std::string& node : all) {
    const std::string name = lab_namespace(node);
    if (fs::exists(file_of(name))) (void)run({"ip", "netns", "delete", name});
  }
}

Status cut(const std::string& one, const std::string& other) {
  const auto link = link_of(one, other);
  if (!link) return link.error();
  if (const Status there = divert(one, other, true); !there) return there;
  if (const Status back = divert(other, one, true); !back) return back;
  std::vector<Link> links = cut_links();
  if (std::find(links.begin(), links.end(), *link) == links.end()) links.push_back(*link);
  return write_cuts(links);
}

Status join_again(const std::string& one, const std::string& other) {
  const auto link = link_of(one, other);
  if (!link) return link.error();
  std::vector<Link> links = cut_links();
  if (std::erase(links, *link) == 0)
    return fail(Errc::conflict, fmt::format("nothing is cut between {} and {}", one, other));
  if (const Status there = divert(one, other, false); !there) return there;
  if (const Status back = divert(other, one, false); !back) return back;
  return write_cuts(links);
}

std::vector<Link> cut_links() {
  std::vector<Link> out;
  std::ifstream in(folder() / kCutsFile);
  Link link;
  while (in >> link.first >> link.second) out.push_back(link);
  return out;
}

InNamespace::InNamespace(const std::string& name) {
  if (name.empty()) return;
  before_ = ::open("/proc/thread-self/ns/net", O_RDONLY | O_CLOEXEC);
  const int there = ::open(file_of(name).c_str(), O_RDONLY | O_CLOEXEC);
  if (before_ >= 0 && (there < 0 || ::setns(there, CLONE_NEWNET) != 0)) {
    ::close(before_);
    before_ = -1;
  }
  if (there >= 0) ::close(there);
}

InNamespace::~InNamespace() {
  if (before_ < 0) return;
  if (::setns(before_, CLONE_NEWNET) != 0) std::abort();  // all that follows would go elsewhere
  ::close(before_);
}

}  // namespace jembatan::lab
