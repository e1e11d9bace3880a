#include "server/feed.h"

namespace jembatan::server {

Feed::Follower::Follower(Feed& feed) : feed_(feed) {
  const std::lock_guard lock(feed_.mutex_);
  feed_.followers_.insert(this);
  feed_.followers_count_ = feed_.followers_.size();
}

Feed::Follower::~Follower() {
  const std::lock_guard lock(feed_.mutex_);
  feed_.followers_.erase(this);
  feed_.followers_count_ = feed_.followers_.size();
}

std::deque<FeedItem> Feed::Follower::take(std::chrono::milliseconds wait) {
  std::unique_lock lock(feed_.mutex_);
  feed_.arrived_.wait_for(lock, wait, [this] { return !waiting_.empty() || feed_.closed_; });
  return std::exchange(waiting_, {});
}

std::uint64_t Feed::Follower::lost() const {
  const std::lock_guard lock(feed_.mutex_);
  return lost_;
}

void Feed::publish(const FeedItem& item) {
  const std::lock_guard lock(mutex_);
  for (Follower* follower : followers_) {
    if (follower->waiting_.size() >= kMostWaiting) {
      ++follower->lost_;
    } else {
      follower->waiting_.push_back(item);
    }
  }
  arrived_.notify_all();
}

void Feed::close() {
  const std::lock_guard lock(mutex_);
  closed_ = true;
  arrived_.notify_all();
}

}  // namespace jembatan::server
