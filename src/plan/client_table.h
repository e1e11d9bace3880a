#pragma once
#include <array>

#include "base/ip.h"

namespace jembatan::plan {

/// Finds the entry with the longest prefix that contains an address, in a compressed binary trie: a lookup
/// takes as many steps as prefixes are nested around the address, whatever the number of entries.
class ClientTable {
 public:
  static constexpr std::size_t kNone = ~std::size_t{0};

  /// Enters a prefix. Gives kNone, or the entry that has this prefix already (which stays).
  std::size_t insert(const Prefix& prefix, std::size_t entry);
  /// The entry with the longest prefix around the address, kNone if there is none.
  std::size_t find(const IpAddress& address) const;
  /// The entry with the longest prefix that holds this one and is shorter, kNone if there is none.
  std::size_t around(const Prefix& prefix) const;
  /// How many octets of memory the table takes.
  std::size_t memory() const { return nodes_.capacity() * sizeof(Node); }

 private:
  struct Node {
    Prefix prefix;
    std::size_t entry = kNone;
    std::array<std::size_t, 2> below{kNone, kNone};
  };
  std::size_t longest(const IpAddress& address, int below) const;
  std::size_t add_node(const Prefix& prefix, std::size_t entry);
  std::vector<Node> nodes_;
  std::array<std::size_t, 2> roots_{kNone, kNone};  // one for each address family
};

}  // namespace jembatan::plan
