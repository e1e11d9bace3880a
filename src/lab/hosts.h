#pragma once
// The lab's nodes as machines of their own: each in a network namespace with an address of its own, all on
// one bridge (ip-netns(8)). For root alone.
#include <string>
#include <utility>
#include <vector>

#include "base/ip.h"
#include "base/result.h"

namespace jembatan::lab {

/// What the lab's folder has while its nodes are machines of their own.
inline constexpr const char* kHostsFile = "hosts";

/// The address on the bridge of what the demo has at 127.0.N.1: 192.0.2.N. Others stay as they are.
IpAddress on_the_water(const IpAddress& demo);
/// The other way round.
IpAddress ashore(const IpAddress& address);

/// Whether the lab's folder was made for that.
bool has_hosts();
/// The namespace of a node of the lab; empty if it has none.
std::string namespace_of(const std::string& node);

/// Makes the namespaces that are not there, with their links.
///   errors  Errc::not_allowed: this is not root; Errc::io: what ip(8) says
Status make_hosts();
/// Takes them away again.
void remove_hosts();

using Link = std::pair<std::string, std::string>;  ///< two nodes, in the order of the alphabet
/// From now on nothing gets from one node to the other, without a word to either.
///   errors  Errc::not_found: no such node; Errc::conflict: the lab is not up with --hosts; Errc::io
Status cut(const std::string& one, const std::string& other);
/// Mends that.
Status join_again(const std::string& one, const std::string& other);
std::vector<Link> cut_links();

/// While it lives, what this thread opens is opened in a namespace; with an empty name, where it is.
class InNamespace {
 public:
  explicit InNamespace(const std::string& name);
  ~InNamespace();
  InNamespace(const InNamespace&) = delete;
  InNamespace& operator=(const InNamespace&) = delete;

 private:
  int before_ = -1;
};

}  // namespace jembatan::lab
