#pragma once
#include <atomic>
#include <deque>
#include <map>
#include <mutex>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/secret.h"
#include "engine/actions.h"

namespace jembatan::server {

/// Rejected passwords of users for whom somebody is allowed to see them for a while. They are in memory only,
/// the last few of each user, and wiped when the time is over. Any thread.
class Unmask {
 public:
  struct Seen {
    std::uint64_t number = 0;  ///< 1 and up, of this user
    WallTime at;
    std::string client;
    Secret password;
  };

  /// From now on, until then; in the past: no more.
  void watch(std::string_view user, WallTime until, WallTime now);
  /// Until when a user is watched, and what was seen behind a number; nothing if he is not.
  struct View {
    WallTime until;
    std::vector<Seen> seen;
  };
  /// Wipes what was seen of those whose time is over. To be called now and then.
  void tick(WallTime now) {
    if (!any_.load(std::memory_order_relaxed)) return;
    const std::lock_guard lock(mutex_);
    forget_old(now);
  }
  std::optional<View> view(std::string_view user, std::uint64_t behind, WallTime now);

  /// True while anybody is watched.
  const std::atomic<bool>& any() const { return any_; }
  /// Kept if its user is watched.
  void rejected(engine::RejectedPassword password);

 private:
  struct Watched {
    WallTime until;
    std::uint64_t count = 0;
    std::deque<Seen> seen;
  };
  static constexpr std::size_t kMostUsers = 16;
  static constexpr std::size_t kMostSeen = 50;
  void forget_old(WallTime now);
  std::atomic<bool> any_{false};
  mutable std::mutex mutex_;
  std::map<std::string, Watched> watched_;  // by comparable name
};

}  // namespace jembatan::server
