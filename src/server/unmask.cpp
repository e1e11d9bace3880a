#include "server/unmask.h"

#include "identity/name.h"

namespace jembatan::server {

void Unmask::forget_old(WallTime now) {
  std::erase_if(watched_, [now](const auto& entry) { return entry.second.until <= now; });
  any_ = !watched_.empty();
}

void Unmask::watch(std::string_view user, WallTime until, WallTime now) {
  const std::lock_guard lock(mutex_);
  forget_old(now);
  const std::string name = identity::comparable(user);
  if (watched_.size() < kMostUsers || watched_.contains(name)) watched_[name].until = until;
  forget_old(now);
}

std::optional<Unmask::View> Unmask::view(std::string_view user, std::uint64_t behind, WallTime now) {
  const std::lock_guard lock(mutex_);
  forget_old(now);
  const auto found = watched_.find(identity::comparable(user));
  if (found == watched_.end()) return std::nullopt;
  View out{found->second.until, {}};
  for (const Seen& seen : found->second.seen) {
    if (seen.number > behind) out.seen.push_back(seen);
  }
  return out;
}

void Unmask::rejected(engine::RejectedPassword password) {
  const std::lock_guard lock(mutex_);
  forget_old(password.at);
  const auto found = watched_.find(identity::comparable(password.user));
  if (found == watched_.end()) return;
  Watched& watched = found->second;
  watched.seen.push_back(
      {++watched.count, password.at, std::move(password.client), std::move(password.typed)});
  if (watched.seen.size() > kMostSeen) watched.seen.pop_front();
}

}  // namespace jembatan::server
