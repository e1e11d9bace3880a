#pragma once
// Time and randomness that a test decides about.
#include <random>

#include "base/clock.h"
#include "base/random.h"

namespace jembatan::support {

/// Stands still until it is advanced.
class FakeClock final : public Clock {
 public:
  Now now() const override { return now_; }
  Now advance(std::chrono::milliseconds by) {
    now_.steady += by;
    now_.wall += by;
    return now_;
  }

 private:
  Now now_{TimePoint(std::chrono::hours(1000)), WallTime(std::chrono::seconds(1'790'000'000))};
};

/// The same numbers in every run.
class FixedRandom final : public Random {
 public:
  explicit FixedRandom(unsigned seed) : engine_(seed) {}
  void fill(OctetSpan out) override {
    for (auto& octet : out) octet = static_cast<std::uint8_t>(engine_());
  }

 private:
  std::mt19937 engine_;
};

}  // namespace jembatan::support
