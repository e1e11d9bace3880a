#include "accounting/ledger.h"

#include <nettle/hmac.h>

#include <algorithm>

#include "base/octets.h"

namespace jembatan::accounting {

void Sum::add(const Digest& digest) {
  ++count;
  std::uint64_t first = 0;
  for (std::size_t i = 0; i < 8; ++i) first = first << 8U | digest[i];
  of_digests += first;
}

Hour hour_of(WallTime time) {
  return std::chrono::floor<std::chrono::hours>(time.time_since_epoch()).count();
}

WallTime begin_of(Hour hour) {
  return WallTime(std::chrono::hours(hour));
}

std::size_t slot_of(const Digest& digest) {
  return digest[8] % kSlots;
}

void salt(Entry& entry, std::string_view with) {
  if (with.empty()) return;
  const OctetView octets = view_of(with);
  hmac_sha256_ctx hmac;
  hmac_sha256_set_key(&hmac, octets.size(), octets.data());
  for (Digest* one : {&entry.key, &entry.digest}) {
    hmac_sha256_update(&hmac, one->size(), one->data());
    hmac_sha256_digest(&hmac, one->size(), one->data());
  }
}

void add_to(std::map<Hour, Sum>& sums, const Entry& entry) {
  sums[hour_of(entry.event_time)].add(entry.digest);
}

void add_late(Ledger::Late& late, const Entry& entry, std::chrono::seconds by, std::size_t most) {
  if (entry.received - entry.event_time <= by) return;
  ++late.count;
  if (late.first.size() < most) late.first.push_back(entry);
}

LedgerAtHand::LedgerAtHand(std::vector<Entry> entries) : entries_(std::move(entries)) {
  std::stable_sort(entries_.begin(), entries_.end(), [](const Entry& a, const Entry& b) {
    return hour_of(a.event_time) < hour_of(b.event_time);
  });
}

std::span<const Entry> LedgerAtHand::of(Hour hour) const {
  const auto begin = std::partition_point(entries_.begin(), entries_.end(),
                                          [&](const Entry& one) { return hour_of(one.event_time) < hour; });
  const auto end =
      std::find_if(begin, entries_.end(), [&](const Entry& one) { return hour_of(one.event_time) != hour; });
  return {begin, end};
}

Result<std::map<Hour, Sum>> LedgerAtHand::hours() {
  std::map<Hour, Sum> out;
  for (const Entry& one : entries_) add_to(out, one);
  return out;
}

Result<std::map<Hour, SlotSums>> LedgerAtHand::slots(std::span<const Hour> hours) {
  std::map<Hour, SlotSums> out;
  for (const Hour hour : hours) {
    SlotSums& sums = out[hour];
    for (const Entry& one : of(hour)) sums[slot_of(one.digest)].add(one.digest);
  }
  return out;
}

Result<std::vector<Entry>> LedgerAtHand::entries(std::span<const Place> places) {
  std::vector<Entry> out;
  for (const Place& place : places)
    std::ranges::copy_if(of(place.hour), std::back_inserter(out),
                         [&](const Entry& one) { return slot_of(one.digest) == place.slot; });
  return out;
}

Result<Ledger::Late> LedgerAtHand::late(std::chrono::seconds by, std::size_t most) {
  Late out;
  for (const Entry& one : entries_) add_late(out, one, by, most);
  return out;
}

}  // namespace jembatan::accounting
