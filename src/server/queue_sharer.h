#pragma once
#include <atomic>
#include <map>
#include <set>

#include "server/database_thread.h"
#include "server/event_log.h"
#include "shared/shared_queue.h"

namespace jembatan::server {

/// The thread that shares what waits to be sent on with the other nodes of the plan: it puts up what has
/// waited here for a while, and sends on what waits at nodes that are gone. A node that is back learns what
/// others have sent before it sends itself.
class QueueSharer {
 public:
  struct Parts {
    shared::Wish wish;
    std::string plan;
    std::chrono::seconds take_over_after;                      ///< that another node has not been seen
    std::function<Result<std::vector<std::string>>()> groups;  ///< that something waits for here
    std::function<Result<std::vector<accounting::Undelivered>>(const std::string& group, std::int64_t behind,
                                                               std::size_t most)>
        waiting;
    /// Others send these on.
    std::function<Status(std::vector<accounting::Delivered>)> handed_over;
    /// This node may send what waits here: what others send is off its queues.
    std::function<void()> settled;
    /// Makes records durable that waited at another node.
    std::function<Status(std::vector<accounting::Incoming>)> keep;
    EventLog& events;
  };
  explicit QueueSharer(Parts parts);

  void start() { thread_.start(); }
  /// What waits here for some group is not what it was. Any thread.
  void begin_anew() { anew_ = true; }
  void stop() { thread_.stop(); }

 private:
  using Steady = std::chrono::steady_clock;
  struct Taken {
    std::uint64_t records = 0;
    std::set<std::string> groups;
    Steady::time_point told;
  };
  Status turn(shared::SharedQueue& there);
  /// False: somebody is about to take some.
  Result<bool> give_up(shared::SharedQueue& there);
  Status put_up(shared::SharedQueue& there);
  Status put_up(shared::SharedQueue& there, const std::string& group);
  Status take_over(shared::SharedQueue& there);
  void tell_of(bool all_of_them);
  void tell(std::string text);

  Parts parts_;
  std::atomic<bool> anew_{true};
  // The thread's alone.
  bool settled_ = false;
  Steady::time_point connected_at_;
  std::map<std::string, std::int64_t> up_;  // by group that something is up for: the last record that was
  std::map<std::string, Taken> taken_;      // by node
  DatabaseThread<shared::SharedQueue> thread_;
};

}  // namespace jembatan::server
