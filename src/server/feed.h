#pragma once
#include <atomic>
#include <condition_variable>
#include <deque>
#include <memory>
#include <mutex>
#include <set>
#include <variant>

#include "engine/actions.h"

namespace jembatan::server {

using FeedItem = std::shared_ptr<const std::variant<engine::Event, engine::Notice>>;

/// Hands events to those who follow live. A follower that is too slow loses events and is told how many. Any
/// thread.
class Feed {
 public:
  class Follower {
   public:
    explicit Follower(Feed& feed);
    ~Follower();
    Follower(const Follower&) = delete;
    Follower& operator=(const Follower&) = delete;

    /// What has come; waits for the first. Empty if nothing came in time or the feed has closed.
    std::deque<FeedItem> take(std::chrono::milliseconds wait);
    std::uint64_t lost() const;

   private:
    friend class Feed;
    Feed& feed_;
    std::deque<FeedItem> waiting_;  // guarded by the feed's mutex
    std::uint64_t lost_ = 0;
  };

  bool followed() const { return followers_count_.load(std::memory_order_relaxed) > 0; }
  void publish(const FeedItem& item);
  void close();

 private:
  static constexpr std::size_t kMostWaiting = 10000;
  mutable std::mutex mutex_;
  std::condition_variable arrived_;
  std::set<Follower*> followers_;
  std::atomic<std::size_t> followers_count_{0};
  bool closed_ = false;
};

}  // namespace jembatan::server
