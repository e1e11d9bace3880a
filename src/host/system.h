#pragma once
// The machine's own time and randomness.
#include <array>

#include "base/clock.h"
#include "base/random.h"

namespace jembatan::host {

class SystemClock final : public Clock {
 public:
  Now now() const override { return {std::chrono::steady_clock::now(), std::chrono::system_clock::now()}; }
};

/// The kernel's cryptographic randomness, fetched in larger pieces. One thread at a time per object.
class SystemRandom final : public Random {
 public:
  void fill(OctetSpan out) override;

 private:
  std::array<std::uint8_t, 4096> stock_{};
  std::size_t used_ = 4096;
};

}  // namespace jembatan::host
