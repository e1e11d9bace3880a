#pragma once
// What is known of a client besides the plan. Shared by all threads; outlives a change of the plan.
#include <atomic>
#include <memory>
#include <optional>

#include "plan/model.h"

namespace jembatan::forward {

class ClientActivity {
 public:
  /// True if one more request is within the rate; a second's worth may come at once.
  bool admit(std::uint32_t per_second, TimePoint now);

  /// Requests of it that wait for servers.
  std::size_t waiting() const { return waiting_.load(std::memory_order_relaxed); }
  void begins_to_wait() { waiting_.fetch_add(1, std::memory_order_relaxed); }
  void waits_no_more() { waiting_.fetch_sub(1, std::memory_order_relaxed); }

  /// A request verified with this secret.
  void verified(plan::WhichSecret which, WallTime now);
  /// When that was last, since the server started.
  std::optional<WallTime> last_verified(plan::WhichSecret which) const;

 private:
  std::atomic<std::int64_t> next_free_{
      0};  // steady clock, nanoseconds: when the rate would be used up to now
  std::atomic<std::size_t> waiting_{0};
  std::array<std::atomic<std::int64_t>, 2> verified_{};  // wall clock, milliseconds; 0: never
};

using ActivityPtr = std::shared_ptr<ClientActivity>;

}  // namespace jembatan::forward
