#include "plan/client_table.h"

#include <algorithm>

namespace jembatan::plan {
namespace {

Prefix shortened(const Prefix& prefix, int length) {
  Prefix out = prefix;
  out.length = static_cast<std::uint8_t>(length);
  for (int bit = length; bit < prefix.address.bits(); ++bit) {
    out.address.octets[static_cast<std::size_t>(bit / 8)] &= static_cast<std::uint8_t>(~(0x80 >> (bit % 8)));
  }
  return out;
}

std::size_t side(const Prefix& inner, const Prefix& outer) {
  return bit_at(inner.address, outer.length) ? 1 : 0;
}

}  // namespace

std::size_t ClientTable::add_node(const Prefix& prefix, std::size_t entry) {
  nodes_.push_back({prefix, entry, {kNone, kNone}});
  return nodes_.size() - 1;
}

std::size_t ClientTable::insert(const Prefix& prefix, std::size_t entry) {
  const std::size_t family = prefix.address.family == Family::v4 ? 0 : 1;
  // The way down: `link` is where the place was found (a root, or a child of `parent`).
  std::size_t parent = kNone;
  std::size_t at = roots_[family];
  const auto set_link = [&](std::size_t node) {
    if (parent == kNone) {
      roots_[family] = node;
    } else {
      nodes_[parent].below[side(prefix, nodes_[parent].prefix)] = node;
    }
  };
  while (at != kNone) {
    const Prefix here = nodes_[at].prefix;
    const int shared =
        std::min({shared_bits(here.address, prefix.address), int{here.length}, int{prefix.length}});
    if (shared == here.length && here.length == prefix.length) {
      if (nodes_[at].entry != kNone) return nodes_[at].entry;
      nodes_[at].entry = entry;
      return kNone;
    }
    if (shared < here.length) {
      const std::size_t fork = add_node(shortened(prefix, shared), shared == prefix.length ? entry : kNone);
      nodes_[fork].below[side(here, nodes_[fork].prefix)] = at;
      set_link(fork);
      if (shared < prefix.length) {
        const std::size_t leaf = add_node(prefix, entry);
        nodes_[fork].below[side(prefix, nodes_[fork].prefix)] = leaf;
      }
      return kNone;
    }
    parent = at;
    at = nodes_[at].below[side(prefix, here)];
  }
  set_link(add_node(prefix, entry));
  return kNone;
}

// The entry with the longest prefix around the address that is shorter than `below` bits.
std::size_t ClientTable::longest(const IpAddress& address, int below) const {
  std::size_t best = kNone;
  std::size_t at = roots_[address.family == Family::v4 ? 0 : 1];
  while (at != kNone) {
    const Node& node = nodes_[at];
    if (node.prefix.length >= below || !node.prefix.contains(address)) break;
    if (node.entry != kNone) best = node.entry;
    if (node.prefix.length == address.bits()) break;
    at = node.below[bit_at(address, node.prefix.length) ? 1 : 0];
  }
  return best;
}

std::size_t ClientTable::find(const IpAddress& address) const {
  return longest(address, address.bits() + 1);
}

std::size_t ClientTable::around(const Prefix& prefix) const {
  return longest(prefix.address, prefix.length);
}

}  // namespace jembatan::plan
