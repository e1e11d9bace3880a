#pragma once
#include <optional>
#include <vector>

#include "accounting/keys.h"

namespace jembatan::accounting {

/// The records that were kept last, to know a resend before it is answered: up to a bound, then the oldest
/// give their places. Belongs to one thread.
class KnownRecords {
 public:
  explicit KnownRecords(std::size_t most);

  /// There are older ones than those that will be added.
  void begin_after(WallTime received) { complete_since_ = received + kResendWindow; }
  void add(const Arrival& arrival);
  /// Takes back the newest ones: they could not be kept.
  void forget_newest(std::size_t count);
  /// The record of the same event.
  std::optional<std::int64_t> find(const Arrival& arrival) const;
  /// True if the first of the same event may have come before the oldest that is known here.
  bool may_be_older(const Arrival& arrival) const { return arrival.event_time < complete_since_; }
  std::size_t size() const { return next_ - first_; }

 private:
  struct Entry {
    std::uint64_t key = 0;  // its first octets
    Sighting seen;
    std::int64_t id = 0;
    WallTime received;
    std::uint64_t before = 0;  // the number of the last one in the same bucket, and one
  };
  Entry& entry(std::uint64_t number) { return ring_[number % most_]; }
  const Entry& entry(std::uint64_t number) const { return ring_[number % most_]; }
  std::uint64_t& bucket_of(std::uint64_t key) { return buckets_[key & (buckets_.size() - 1)]; }

  std::size_t most_;
  std::vector<Entry> ring_;             // grows up to `most_`, then goes round
  std::vector<std::uint64_t> buckets_;  // the number of the newest, and one; 0: none
  std::uint64_t first_ = 0;             // numbers of the entries that are known: first_ up to next_
  std::uint64_t next_ = 0;
  WallTime complete_since_ = WallTime::min();
};

}  // namespace jembatan::accounting
