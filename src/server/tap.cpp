#include "server/tap.h"

#include "server/udp_socket.h"

namespace jembatan::server {
namespace {

void name_local_address(Endpoint& local, const Endpoint& other) {
  if (!local.address.unspecified()) return;
  if (const auto address = local_address_towards(other)) local.address = *address;
}

}  // namespace

Tap::Listener::Listener(Tap& tap) : tap_(tap) {
  const std::lock_guard lock(tap_.mutex_);
  tap_.listeners_.insert(this);
  tap_.listening_ = tap_.listeners_.size();
}

Tap::Listener::~Listener() {
  const std::lock_guard lock(tap_.mutex_);
  tap_.listeners_.erase(this);
  tap_.listening_ = tap_.listeners_.size();
}

std::deque<Tapped> Tap::Listener::take(std::chrono::milliseconds wait) {
  std::unique_lock lock(tap_.mutex_);
  tap_.arrived_.wait_for(lock, wait, [this] { return !waiting_.empty(); });
  return std::exchange(waiting_, {});
}

std::uint64_t Tap::Listener::lost() const {
  const std::lock_guard lock(tap_.mutex_);
  return lost_;
}

void Tap::pass(Endpoint from, Endpoint to, OctetView octets, WallTime at) {
  name_local_address(from, to);
  name_local_address(to, from);
  const Tapped tapped{at, from, to, Octets(octets.begin(), octets.end())};
  const std::lock_guard lock(mutex_);
  for (Listener* listener : listeners_) {
    if (listener->waiting_.size() >= kMostWaiting) {
      ++listener->lost_;
    } else {
      listener->waiting_.push_back(tapped);
    }
  }
  arrived_.notify_all();
}

}  // namespace jembatan::server
