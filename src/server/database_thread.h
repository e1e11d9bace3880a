#pragma once
#include <chrono>
#include <condition_variable>
#include <functional>
#include <memory>
#include <mutex>
#include <optional>
#include <string>
#include <thread>

#include "base/clock.h"
#include "base/result.h"
#include "base/text.h"
#include "host/process.h"
#include "host/system.h"

namespace jembatan::server {

/// A thread that does one thing at the shared database, again and again. While the database is away it rests,
/// for longer each time.
///   There  one node's connection, with interrupt()
template <class There>
class DatabaseThread {
 public:
  struct Parts {
    const char* name;
    std::chrono::milliseconds every;  ///< between turns, unless look() comes earlier
    std::function<Result<std::unique_ptr<There>>()> open;
    /// An error ends the connection, and the next turn has another one.
    std::function<Status(There& there)> turn;
    std::function<void(const Error& why)> lost;  ///< the first turn that failed
    std::function<void()> back;                  ///< the first one behind that which did not
  };
  explicit DatabaseThread(Parts parts) : parts_(std::move(parts)) {}
  ~DatabaseThread() { stop(); }

  /// Once; the parts are called on the new thread from then on.
  void start() {
    thread_ = std::thread([this] {
      host::name_thread(parts_.name);
      run();
    });
  }

  /// There is something to do. It does not shorten the rest while the database is away. Any thread.
  void look() {
    {
      const std::lock_guard lock(mutex_);
      look_ = true;
    }
    woken_.notify_one();
  }

  /// True from stop() on: a long turn ends early. Any thread.
  bool stopping() const {
    const std::lock_guard lock(mutex_);
    return stop_;
  }

  /// Why the last turn failed, and since when they do; empty if it did not. Any thread.
  std::string problem() const {
    const std::lock_guard lock(mutex_);
    return problem_.empty() ? "" : "since " + text_of(*problem_since_) + ": " + problem_;
  }

  /// Ends a call that blocks, and the thread.
  void stop() {
    {
      const std::lock_guard lock(mutex_);
      stop_ = true;
      if (there_) there_->interrupt();
    }
    woken_.notify_one();
    if (thread_.joinable()) thread_.join();
  }

 private:
  static constexpr std::chrono::milliseconds kFirstRest{500};
  static constexpr std::chrono::milliseconds kLongestRest{5000};

  void run() {
    while (!stopping()) {
      Status done = there_ ? Status{} : open();
      if (done) done = parts_.turn(*there_);
      if (done) {
        went_well();
        rest(parts_.every, true);
      } else {
        failed(done.error());
        rest(rest_, false);
      }
    }
  }

  Status open() {
    auto opened = parts_.open();
    if (!opened) return opened.error();
    const std::lock_guard lock(mutex_);
    there_ = std::move(*opened);
    return {};
  }

  void rest(std::chrono::milliseconds at_most, bool unless_asked) {
    std::unique_lock lock(mutex_);
    woken_.wait_for(lock, at_most, [&] { return stop_ || (look_ && unless_asked); });
    look_ = false;
  }

  void went_well() {
    rest_ = {};
    {
      const std::lock_guard lock(mutex_);
      if (problem_.empty()) return;
      problem_.clear();
    }
    parts_.back();
  }

  void failed(const Error& why) {
    std::unique_ptr<There> gone;
    bool first = false;
    {
      const std::lock_guard lock(mutex_);
      if (stop_) return;
      gone = std::move(there_);
      first = problem_.empty();
      problem_ = why.text;
      if (first) problem_since_ = host::SystemClock().now().wall;
    }
    rest_ = rest_.count() == 0 ? kFirstRest : std::min(2 * rest_, kLongestRest);
    if (first) parts_.lost(why);
  }

  Parts parts_;
  mutable std::mutex mutex_;
  std::condition_variable woken_;
  bool look_ = false;
  bool stop_ = false;
  std::string problem_;
  std::optional<WallTime> problem_since_;
  std::unique_ptr<There> there_;       // changed by the thread alone, under the mutex
  std::chrono::milliseconds rest_{0};  // the thread's alone
  std::thread thread_;
};

}  // namespace jembatan::server
