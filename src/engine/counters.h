#pragma once
#include <array>
#include <atomic>

#include "decide/outcome.h"

namespace jembatan::engine {

using decide::is_drop;
using decide::kOutcomes;
using decide::name_of;
using decide::Outcome;
using decide::Weight;
using decide::weight_of;

/// Counters of one thread: it alone writes, any thread may read.
class Counters {
 public:
  /// A datagram has come, from a client or a server.
  void received() { add(received_); }
  /// It has met its outcome; the sum of all is received_count() when nothing is under way.
  void ended(Outcome outcome) { add(ended_[static_cast<std::size_t>(outcome)]); }
  /// The result of a job came when nobody waited for it any more.
  void late() { add(late_); }
  std::uint64_t late_count() const { return late_.load(std::memory_order_relaxed); }
  std::uint64_t received_count() const { return received_.load(std::memory_order_relaxed); }
  std::uint64_t count(Outcome outcome) const {
    return ended_[static_cast<std::size_t>(outcome)].load(std::memory_order_relaxed);
  }

 private:
  static void add(std::atomic<std::uint64_t>& counter) {
    counter.store(counter.load(std::memory_order_relaxed) + 1, std::memory_order_relaxed);
  }
  std::atomic<std::uint64_t> received_{0};
  std::atomic<std::uint64_t> late_{0};
  std::array<std::atomic<std::uint64_t>, kOutcomes> ended_{};
};

}  // namespace jembatan::engine
