#include "accounting/known_records.h"

#include <algorithm>
#include <bit>

namespace jembatan::accounting {

KnownRecords::KnownRecords(std::size_t most)
    : most_(std::max<std::size_t>(most, 1)), buckets_(std::bit_ceil(most_)) {}

void KnownRecords::add(const Arrival& arrival) {
  if (size() == most_) {
    // Whoever is told late is told with a time before: the record itself may be the younger one by a clock
    // that goes wrong, and then the store is asked in vain.
    complete_since_ = std::max(complete_since_, entry(first_).received + kResendWindow);
    ++first_;
  }
  const std::uint64_t key = load64(arrival.key.data());
  std::uint64_t& bucket = bucket_of(key);
  const Entry added{key, sighting_of(arrival), arrival.id, arrival.received, bucket};
  if (ring_.size() < most_ && next_ == ring_.size()) {
    ring_.push_back(added);
  } else {
    entry(next_) = added;
  }
  bucket = ++next_;
}

void KnownRecords::forget_newest(std::size_t count) {
  for (; count > 0 && next_ > first_; --count) {
    const Entry& last = entry(--next_);
    bucket_of(last.key) = last.before;
  }
}

std::optional<std::int64_t> KnownRecords::find(const Arrival& arrival) const {
  const std::uint64_t key = load64(arrival.key.data());
  const Sighting seen = sighting_of(arrival);
  for (std::uint64_t at = buckets_[key & (buckets_.size() - 1)]; at > first_;) {
    const Entry& known = entry(at - 1);
    if (known.key == key && is_one_event(known.seen, seen)) return known.id;
    at = known.before;
  }
  return std::nullopt;
}

}  // namespace jembatan::accounting
