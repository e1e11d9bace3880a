#include "server/host_watch.h"

#include "host/process.h"

namespace jembatan::server {

void HostWatch::start() {
  thread_ = std::thread([this] {
    host::name_thread("host-names");
    run();
  });
}

void HostWatch::look() {
  const std::lock_guard lock(mutex_);
  look_ = true;
  changed_.notify_one();
}

void HostWatch::stop() {
  if (!thread_.joinable()) return;
  {
    const std::lock_guard lock(mutex_);
    stop_ = true;
    changed_.notify_one();
  }
  thread_.join();
}

void HostWatch::run() {
  const auto woken = [this] { return look_ || stop_; };
  bool moved = false;  // and nobody has taken that up yet
  while (true) {
    const auto due = names_.next_due();
    {
      std::unique_lock lock(mutex_);
      if (due) {
        changed_.wait_until(lock, *due, woken);
      } else {
        changed_.wait(lock, woken);
      }
      if (stop_) return;
      look_ = false;
    }
    moved = names_.look_again() || moved;
    if (moved && moved_()) moved = false;
  }
}

}  // namespace jembatan::server
