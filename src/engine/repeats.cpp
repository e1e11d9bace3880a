#include "engine/repeats.h"

#include <bit>

namespace jembatan::engine {
namespace {

constexpr int kMostLooks = 64;  // places passed over in search of one that is not being worked on

}  // namespace

Repeats::Repeats(std::size_t capacity, Duration keep)
    : keep_(keep), entries_(capacity), buckets_(std::bit_ceil(capacity), kNone) {}

std::uint32_t& Repeats::bucket_of(const Key& key) {
  const std::uint64_t hash =
      hash_of(key.source) ^ (std::uint64_t{key.identifier} * 0x9E3779B1U) ^ key.listener;
  return buckets_[(hash ^ hash >> 29U) & (buckets_.size() - 1)];
}

const Repeats::Entry* Repeats::entry(Handle handle) const {
  if (handle.place >= entries_.size()) return nullptr;
  const Entry& found = entries_[handle.place];
  return found.state != State::empty && found.generation == handle.generation ? &found : nullptr;
}

void Repeats::unlink(std::uint32_t place) {
  Entry& entry = entries_[place];
  std::uint32_t* link = &bucket_of(entry.key);
  while (*link != place) link = &entries_[*link].chain;
  *link = entry.chain;
  entry.state = State::empty;
  ++entry.generation;
}

std::uint32_t Repeats::free_place(TimePoint now) {
  for (int looks = 0; looks < kMostLooks; ++looks) {
    const std::uint32_t place = next_;
    next_ = next_ + 1 == entries_.size() ? 0 : next_ + 1;
    Entry& entry = entries_[place];
    if (entry.state == State::waiting && now < entry.until) continue;
    if (entry.state != State::empty) unlink(place);
    return place;
  }
  return kNone;
}

Repeats::Found Repeats::look(const Key& key, OctetView packet, TimePoint now) {
  const wire::PacketDigest digest = wire::digest_of(packet);
  for (std::uint32_t place = bucket_of(key); place != kNone; place = entries_[place].chain) {
    Entry& entry = entries_[place];
    if (!(entry.key == key)) continue;
    const bool same = entry.digest == digest && (entry.state == State::waiting || now < entry.until);
    if (!same) {
      unlink(place);
      break;
    }
    const Handle handle{place, entry.generation};
    if (entry.state == State::waiting) return {Seen::waiting, handle, {}};
    return {Seen::answered, handle, entry.reply};
  }
  const std::uint32_t place = free_place(now);
  if (place == kNone) return {Seen::full, {}, {}};
  Entry& entry = entries_[place];
  std::uint32_t& bucket = bucket_of(key);
  entry.key = key;
  entry.digest = digest;
  entry.state = State::waiting;
  // A request that was lost track of gives its place back in the end: no approval takes longer.
  entry.until = now + std::chrono::minutes(10);
  entry.chain = bucket;
  bucket = place;
  return {Seen::fresh, {place, entry.generation}, {}};
}

bool Repeats::answer(Handle handle, OctetView reply, TimePoint now) {
  if (entry(handle) == nullptr) return false;
  Entry& found = entries_[handle.place];
  found.state = State::answered;
  found.until = now + keep_;
  found.reply.assign(reply.begin(), reply.end());
  return true;
}

void Repeats::forget(Handle handle) {
  if (entry(handle) != nullptr) unlink(handle.place);
}

}  // namespace jembatan::engine
