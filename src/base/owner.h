#pragma once
#ifndef NDEBUG
#include <atomic>
#include <cstdio>
#include <cstdlib>
#include <thread>
#endif

namespace jembatan {

/// Holds an object to one thread: the first that calls check() is the owner, any other ends the program. In
/// builds with assertions; nothing in others. An object that is handed over before it is used is unbound by
/// hand_over().
class Owner {
 public:
#ifndef NDEBUG
  void check() const {
    std::thread::id known{};
    const std::thread::id self = std::this_thread::get_id();
    if (owner_.compare_exchange_strong(known, self) || known == self) return;
    std::fputs("an object that belongs to one thread was called by another\n", stderr);
    std::abort();
  }
  void hand_over() {
    owner_.store({});
  }

 private:
  mutable std::atomic<std::thread::id> owner_{};
#else
  void check() const {}
  void hand_over() {}
#endif
};

}  // namespace jembatan
