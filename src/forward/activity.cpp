#include "forward/activity.h"

#include <algorithm>

namespace jembatan::forward {
namespace {

constexpr std::int64_t kSecond = 1'000'000'000;

}  // namespace

// The generic cell rate algorithm: each request moves the date at which the rate would be used up.
bool ClientActivity::admit(std::uint32_t per_second, TimePoint now) {
  const std::int64_t at = now.time_since_epoch().count();
  const std::int64_t step = kSecond / per_second;
  std::int64_t free = next_free_.load(std::memory_order_relaxed);
  while (true) {
    const std::int64_t next = std::max(free, at) + step;
    if (next - at > kSecond) return false;
    if (next_free_.compare_exchange_weak(free, next, std::memory_order_relaxed)) return true;
  }
}

void ClientActivity::verified(plan::WhichSecret which, WallTime now) {
  const auto ms = std::chrono::duration_cast<std::chrono::milliseconds>(now.time_since_epoch()).count();
  verified_[static_cast<std::size_t>(which)].store(ms, std::memory_order_relaxed);
}

std::optional<WallTime> ClientActivity::last_verified(plan::WhichSecret which) const {
  const std::int64_t ms = verified_[static_cast<std::size_t>(which)].load(std::memory_order_relaxed);
  if (ms == 0) return std::nullopt;
  return WallTime(std::chrono::milliseconds(ms));
}

}  // namespace jembatan::forward
