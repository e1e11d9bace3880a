#pragma once
#include <condition_variable>
#include <functional>
#include <map>
#include <mutex>
#include <set>
#include <thread>

#include "accounting/store.h"

namespace jembatan::server {

/// The thread that writes the accounting store: takes records over from the inbox in large transactions,
/// takes what was delivered off the queues, and does what others want done there. Nobody waits for it to
/// answer a device.
class Filler {
 public:
  struct Parts {
    std::unique_ptr<accounting::Inbox> inbox;  ///< a connection of its own, which only reads
    std::unique_ptr<accounting::Store> store;
    accounting::Housekeeping housekeeping;
    std::function<void(std::int64_t up_to)> filled;
    std::function<void(std::int64_t up_to)> settled;
    /// There is something new to be sent to these groups.
    std::function<void(const std::set<std::string>& groups)> queued;
    /// The same, maybe among what waits there already.
    std::function<void(const std::set<std::string>& groups)> queued_again;
    /// These were taken off the queues.
    std::function<void(std::vector<accounting::Delivered>)> taken_off;
  };
  explicit Filler(Parts parts);
  ~Filler();

  void start();
  /// There is something new in the inbox. Any thread.
  void look();
  /// Takes records off the queues, with the evidence. Any thread.
  void delivered(std::vector<accounting::Delivered> records);
  void set_aside(std::vector<accounting::SetAside> records);
  /// Has work done with the store on its thread, when what was in the inbox by now has been taken over, and
  /// waits for it. Any thread but its own. False: it ends.
  bool work(const std::function<void(accounting::Store&)>& work);
  /// Why the last thing could not be written, and since when; empty if it could. Any thread.
  std::string problem() const;
  /// Takes over what is left in the inbox, then ends the thread and closes the store.
  void stop();

 private:
  using Steady = std::chrono::steady_clock;
  struct Wanted {
    std::vector<accounting::Delivered> delivered;
    std::vector<accounting::SetAside> set_aside;
    std::vector<std::function<void(accounting::Store&)>> work;
    bool look = false;
    bool any() const { return look || !delivered.empty() || !set_aside.empty() || !work.empty(); }
  };
  void run();
  Wanted wait();
  bool fill();
  void take_off(Wanted& wanted);
  void settle_in_time();
  void tidy_in_time();
  bool remember(const Status& done, const std::string& what);

  Parts parts_;
  mutable std::mutex mutex_;
  std::condition_variable arrived_;
  Wanted wanted_;
  std::map<std::string, std::string> problems_;  // by what cannot be written: why
  bool stop_ = false;
  // The thread's alone.
  std::int64_t filled_ = 0;
  std::int64_t settled_ = 0;
  Steady::time_point settle_at_;
  Steady::time_point tidy_at_;
  Steady::time_point try_again_at_;
  bool failing_ = false;  // something could not be written
  bool more_ = false;     // in the inbox
  std::size_t last_batch_ = 0;
  std::thread thread_;
};

}  // namespace jembatan::server
