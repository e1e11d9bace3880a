#include "forward/answer_times.h"

#include <algorithm>
#include <bit>

namespace jembatan::forward {
namespace {

constexpr std::size_t kParts = 4;  // of each power of two

std::int64_t minute_of(TimePoint now) {
  return std::chrono::floor<std::chrono::minutes>(now.time_since_epoch()).count();
}

}  // namespace

std::size_t AnswerTimes::bucket_of(std::chrono::microseconds took) {
  const auto value = static_cast<std::uint64_t>(std::max<std::int64_t>(took.count(), 1));
  const auto power = static_cast<std::size_t>(std::bit_width(value)) - 1;
  const std::uint64_t part = ((value - (std::uint64_t{1} << power)) * kParts) >> power;
  return std::min(power * kParts + part, kBuckets - 1);
}

std::chrono::microseconds AnswerTimes::middle_of(std::size_t bucket) {
  const std::uint64_t power = std::uint64_t{1} << (bucket / kParts);
  return std::chrono::microseconds(power + power * (2 * (bucket % kParts) + 1) / (2 * kParts));
}

void AnswerTimes::add(std::chrono::microseconds took, TimePoint now) {
  const std::int64_t minute = minute_of(now);
  std::int64_t known = minute_.load(std::memory_order_relaxed);
  if (known < minute && minute_.compare_exchange_strong(known, minute)) {
    Counts& oldest = counts_[static_cast<std::size_t>(minute % 2)];
    for (auto& count : oldest) count.store(0, std::memory_order_relaxed);
    if (minute - known < 2) return add(took, now);
    for (auto& count : counts_[static_cast<std::size_t>((minute + 1) % 2)])
      count.store(0, std::memory_order_relaxed);
  }
  counts_[static_cast<std::size_t>(minute % 2)][bucket_of(took)].fetch_add(1, std::memory_order_relaxed);
}

std::optional<std::chrono::microseconds> AnswerTimes::within(double part, TimePoint now) const {
  const std::int64_t minute = minute_of(now);
  const std::int64_t known = minute_.load(std::memory_order_relaxed);
  std::array<std::uint64_t, kBuckets> sums{};
  std::uint64_t total = 0;
  for (const std::int64_t counted : {known, known - 1}) {
    if (counted < minute - 1) continue;  // long ago
    const Counts& counts = counts_[static_cast<std::size_t>((counted + 2) % 2)];
    for (std::size_t i = 0; i < kBuckets; ++i) {
      const std::uint32_t count = counts[i].load(std::memory_order_relaxed);
      sums[i] += count;
      total += count;
    }
  }
  if (total == 0) return std::nullopt;
  const double wanted = part * static_cast<double>(total);
  double seen = 0;
  for (std::size_t i = 0; i < kBuckets; ++i) {
    seen += static_cast<double>(sums[i]);
    if (sums[i] > 0 && seen >= wanted) return middle_of(i);
  }
  return middle_of(kBuckets - 1);
}

}  // namespace jembatan::forward
