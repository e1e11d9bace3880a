#pragma once
#include <condition_variable>
#include <deque>
#include <mutex>
#include <set>

#include "base/clock.h"
#include "base/ip.h"

namespace jembatan::server {

/// A datagram that the node received or sent.
struct Tapped {
  WallTime at;
  Endpoint from;
  Endpoint to;
  Octets octets;
};

/// Gives copies of the node's datagrams to those who capture. Costs one look at an atomic while nobody does.
/// A listener that is too slow loses datagrams and is told how many. Any thread.
class Tap {
 public:
  class Listener {
   public:
    explicit Listener(Tap& tap);
    ~Listener();
    Listener(const Listener&) = delete;
    Listener& operator=(const Listener&) = delete;
    /// What has come; waits for the first, but not longer than this.
    std::deque<Tapped> take(std::chrono::milliseconds wait);
    std::uint64_t lost() const;

   private:
    friend class Tap;
    Tap& tap_;
    std::deque<Tapped> waiting_;  // guarded by the tap's mutex
    std::uint64_t lost_ = 0;
  };

  bool open() const { return listening_.load(std::memory_order_relaxed) > 0; }
  /// Call only while open(). A local address that the system chose is looked up.
  void pass(Endpoint from, Endpoint to, OctetView octets, WallTime at);

 private:
  static constexpr std::size_t kMostWaiting = 20000;
  mutable std::mutex mutex_;
  std::condition_variable arrived_;
  std::set<Listener*> listeners_;
  std::atomic<std::size_t> listening_{0};
};

}  // namespace jembatan::server
