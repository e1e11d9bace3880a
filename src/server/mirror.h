#pragma once
#include <asio/executor_work_guard.hpp>
#include <asio/steady_timer.hpp>
#include <thread>

#include "engine/mirroring.h"
#include "host/system.h"
#include "server/event_log.h"
#include "server/lanes.h"

namespace jembatan::server {

/// The thread that sends copies of requests to the groups that mirror others (engine::Mirroring). What it has
/// no room for is shed and counted: workers are never held up.
class Mirror {
 public:
  struct Parts {
    EventLog& events;
    Tap& tap;
    std::shared_ptr<const engine::LoopMark> loop_mark;
  };
  Mirror(Parts parts, const std::vector<IpAddress>& send_from);
  ~Mirror();

  void start();
  /// Takes over what the vector holds and leaves it empty. Any thread.
  void take(std::vector<engine::Actions::Copy>& copies);
  void stop();
  const engine::Counters& counters() const { return counters_; }
  std::vector<engine::MirrorTally> tallies() const { return mirroring_.tallies(); }

 private:
  void carry_out();
  void set_timer();
  engine::Turn turn() { return {clock_.now(), actions_}; }

  Parts parts_;
  asio::io_context io_{1};
  asio::executor_work_guard<asio::io_context::executor_type> work_{io_.get_executor()};
  asio::steady_timer timer_{io_};
  host::SystemClock clock_;
  host::SystemRandom random_;
  engine::Counters counters_;
  engine::Mirroring mirroring_;
  engine::Actions actions_;
  Lanes lanes_;
  std::atomic<std::size_t> handed_over_{0};  // and not taken up yet
  std::thread thread_;
};

}  // namespace jembatan::server
