#pragma once
#include <algorithm>

#include "base/clock.h"

namespace jembatan::engine {

/// How much may be under way to one destination: more with each answer, one alone after silence, and then a
/// rest before the next trial, longer each time.
class Pace {
 public:
  static constexpr std::size_t kFirst = 16;
  static constexpr std::size_t kMost = 1024;

  std::size_t window() const { return window_; }
  bool rests(TimePoint now) const { return now < rests_until_; }
  TimePoint rests_until() const { return rests_until_; }

  void answered() {
    window_ = std::min(window_ + 1, kMost);
    silences_ = 0;
    rests_until_ = {};
  }
  /// What was under way together ends in silence together: that is one silence.
  void silent(TimePoint now) {
    window_ = 1;
    if (rests(now)) return;
    rests_until_ = now + std::min(kLongestRest, kShortestRest * (1 << std::min(silences_, 8)));
    ++silences_;
  }
  /// Nobody there can be asked now.
  void pause(TimePoint now) {
    if (!rests(now)) rests_until_ = now + kShortestRest;
  }

 private:
  static constexpr std::chrono::milliseconds kShortestRest{1000};
  static constexpr std::chrono::milliseconds kLongestRest{10000};
  std::size_t window_ = kFirst;
  int silences_ = 0;
  TimePoint rests_until_{};
};

}  // namespace jembatan::engine
