#include "engine/repeats.h"

#include <algorithm>
#include <bit>

#include "wire/packet_digest.h"

namespace jembatan::engine {
namespace {

constexpr std::size_t kKeptWhole = 256;  // few requests are longer; many that are take no more room

bool equal(OctetView one, OctetView other) {
  return one.size() == other.size() && std::equal(one.begin(), one.end(), other.begin());
}

}  // namespace

Repeats::Repeats(std::size_t capacity, Duration keep)
    : keep_(keep), entries_(capacity), buckets_(std::bit_ceil(capacity), kNone), free_(capacity) {
  for (std::size_t i = 0; i < capacity; ++i) free_[i] = static_cast<std::uint32_t>(capacity - 1 - i);
}

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
  entry.ticket.reset();
  ++entry.generation;
  free_.push_back(place);
}

// One that is not in use, or that of the reply which was kept longest.
std::uint32_t Repeats::free_place() {
  while (free_.empty() && !answered_.empty()) {
    const Handle oldest = answered_.front();
    answered_.pop_front();
    if (entry(oldest) != nullptr) unlink(oldest.place);
  }
  if (free_.empty()) return kNone;
  const std::uint32_t place = free_.back();
  free_.pop_back();
  return place;
}

// A digest is shorter than any packet.
bool Repeats::is_of(const Entry& entry, OctetView packet) {
  if (packet.size() > kKeptWhole) return equal(entry.packet, wire::digest_of(packet));
  return equal(entry.packet, packet);
}

void Repeats::keep_packet(Entry& entry, OctetView packet) {
  if (packet.size() <= kKeptWhole) return entry.packet.assign(packet.begin(), packet.end());
  const wire::PacketDigest digest = wire::digest_of(packet);
  entry.packet.assign(digest.begin(), digest.end());
}

Repeats::Found Repeats::look(const Key& key, OctetView packet, TimePoint now) {
  std::optional<Ticket> replaced;
  for (std::uint32_t place = bucket_of(key); place != kNone; place = entries_[place].chain) {
    Entry& entry = entries_[place];
    if (!(entry.key == key)) continue;
    const bool same = is_of(entry, packet) && (entry.state == State::waiting || now < entry.until);
    if (!same) {
      replaced = entry.ticket;
      unlink(place);
      break;
    }
    const Handle handle{place, entry.generation};
    if (entry.state == State::waiting) return {Seen::waiting, handle, {}};
    return {Seen::answered, handle, entry.reply};
  }
  const std::uint32_t place = free_place();
  if (place == kNone) return {Seen::full, {}, {}, replaced};
  Entry& entry = entries_[place];
  std::uint32_t& bucket = bucket_of(key);
  entry.key = key;
  keep_packet(entry, packet);
  entry.state = State::waiting;
  entry.chain = bucket;
  bucket = place;
  return {Seen::fresh, {place, entry.generation}, {}, replaced};
}

void Repeats::waits(Handle handle, Ticket ticket) {
  if (entry(handle) != nullptr) entries_[handle.place].ticket = ticket;
}

bool Repeats::answer(Handle handle, OctetView reply, TimePoint now) {
  if (entry(handle) == nullptr) return false;
  Entry& found = entries_[handle.place];
  found.state = State::answered;
  found.ticket.reset();
  found.until = now + keep_;
  found.reply.assign(reply.begin(), reply.end());
  answered_.push_back(handle);
  if (answered_.size() > 2 * entries_.size())
    std::erase_if(answered_, [this](const Handle& known) { return entry(known) == nullptr; });
  return true;
}

void Repeats::forget(Handle handle) {
  if (entry(handle) != nullptr) unlink(handle.place);
}

}  // namespace jembatan::engine
