#include "plan/client_table.h"

#include <algorithm>

namespace jembatan::plan {
namespace {

std::size_t place_of(Family family) {
  return family == Family::v4 ? 0 : 1;
}

Prefix prefix_of(const IpAddress& address, std::uint8_t length) {
  Prefix out{address, length};
  const std::size_t whole = length / 8U;
  if (length % 8 != 0) out.address.octets[whole] &= static_cast<std::uint8_t>(0xFF00U >> (length % 8U));
  const std::size_t first = whole + (length % 8 != 0 ? 1 : 0);
  std::fill(out.address.octets.begin() + static_cast<std::ptrdiff_t>(first), out.address.octets.end(), 0);
  return out;
}

std::size_t hash_of(const Prefix& prefix) {
  const std::uint8_t* octets = prefix.address.octets.data();
  std::uint64_t mixed = load64(octets) ^ (load64(octets + 8) * 0x9E3779B97F4A7C15U) ^ prefix.length;
  mixed ^= mixed >> 32U;
  mixed *= 0xD6E8FEB86659FD93U;
  return mixed ^ (mixed >> 32U);
}

}  // namespace

ClientTable::Slot& ClientTable::slot_of(const Prefix& prefix) {
  std::size_t at = hash_of(prefix) & (slots_.size() - 1);
  while (slots_[at].entry_after != 0 && slots_[at].prefix != prefix) at = (at + 1) & (slots_.size() - 1);
  return slots_[at];
}

void ClientTable::grow() {
  std::vector<Slot> before(std::max<std::size_t>(16, slots_.size() * 2));
  before.swap(slots_);
  for (const Slot& slot : before) {
    if (slot.entry_after != 0) slot_of(slot.prefix) = slot;
  }
}

std::size_t ClientTable::insert(const Prefix& prefix, std::size_t entry) {
  if (2 * (used_ + 1) > slots_.size()) grow();
  Slot& slot = slot_of(prefix);
  if (slot.entry_after != 0) return slot.entry_after - 1;
  slot = {prefix, static_cast<std::uint32_t>(entry + 1)};
  ++used_;
  auto& lengths = lengths_[place_of(prefix.address.family)];
  const auto at = std::lower_bound(lengths.begin(), lengths.end(), prefix.length, std::greater<>());
  if (at == lengths.end() || *at != prefix.length) lengths.insert(at, prefix.length);
  return kNone;
}

// The entry with the longest prefix around the address that is shorter than `below` bits.
std::size_t ClientTable::longest(const IpAddress& address, int below) const {
  for (const std::uint8_t length : lengths_[place_of(address.family)]) {
    if (length >= below) continue;
    const Prefix wanted = prefix_of(address, length);
    for (std::size_t at = hash_of(wanted);; ++at) {
      const Slot& slot = slots_[at & (slots_.size() - 1)];
      if (slot.entry_after == 0) break;
      if (slot.prefix == wanted) return slot.entry_after - 1;
    }
  }
  return kNone;
}

std::size_t ClientTable::find(const IpAddress& address) const {
  return longest(address, address.bits() + 1);
}

std::size_t ClientTable::around(const Prefix& prefix) const {
  return longest(prefix.address, prefix.length);
}

}  // namespace jembatan::plan
