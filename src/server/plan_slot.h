#pragma once
#include <atomic>
#include <mutex>

#include "forward/live_plan.h"

namespace jembatan::server {

/// The plan in force: published once, seen by every worker from its next datagram on. Any thread.
class PlanSlot {
 public:
  void publish(forward::LivePlanPtr live) {
    const std::lock_guard lock(mutex_);
    live_ = std::move(live);
    generation_.fetch_add(1, std::memory_order_release);
  }
  forward::LivePlanPtr current() const {
    const std::lock_guard lock(mutex_);
    return live_;
  }
  /// Changes with each publish: cheap enough to look at for every batch of datagrams.
  std::uint64_t generation() const { return generation_.load(std::memory_order_acquire); }

 private:
  mutable std::mutex mutex_;
  forward::LivePlanPtr live_;
  std::atomic<std::uint64_t> generation_{0};
};

}  // namespace jembatan::server
