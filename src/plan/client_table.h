#pragma once
#include <array>
#include <vector>

#include "base/ip.h"

namespace jembatan::plan {

/// Finds the entry with the longest prefix that contains an address: one look into a hash table for each
/// prefix length that is in use, the longest first. A plan has a handful of lengths; the number of entries
/// does not matter (bench/core_bench.cpp, BM_ClientAtAddress).
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
  std::size_t memory() const { return slots_.capacity() * sizeof(Slot); }

 private:
  struct Slot {
    Prefix prefix;
    std::uint32_t entry_after = 0;  // the entry and one; 0: the slot is free
  };
  Slot& slot_of(const Prefix& prefix);
  void grow();
  std::size_t longest(const IpAddress& address, int below) const;
  std::vector<Slot> slots_;  // open addressing: a look is one place in memory; at most half of it is used
  std::size_t used_ = 0;
  std::array<std::vector<std::uint8_t>, 2> lengths_;  // in use, by address family; the longest first
};

}  // namespace jembatan::plan
