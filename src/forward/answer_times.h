#pragma once
#include <array>
#include <atomic>
#include <chrono>
#include <optional>

#include "base/clock.h"

namespace jembatan::forward {

/// How long the answers of the last one to two minutes took, within an eighth: counts by powers of two, each
/// cut into four. Any thread; a count may be lost while a minute ends.
class AnswerTimes {
 public:
  void add(std::chrono::microseconds took, TimePoint now);
  /// The time within which that part of the answers came; nothing if there were none of late.
  ///   part  0 to 1: 0.5 is the median
  std::optional<std::chrono::microseconds> within(double part, TimePoint now) const;

 private:
  static constexpr std::size_t kBuckets = 112;  // up to 2^28 us, some four and a half minutes
  using Counts = std::array<std::atomic<std::uint32_t>, kBuckets>;
  static std::size_t bucket_of(std::chrono::microseconds took);
  static std::chrono::microseconds middle_of(std::size_t bucket);

  std::array<Counts, 2> counts_{};        // of this minute and the one before, in turns
  std::atomic<std::int64_t> minute_{-1};  // since the clock's beginning
};

}  // namespace jembatan::forward
