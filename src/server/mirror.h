#pragma once
#include "engine/mirroring.h"
#include "server/asking_thread.h"

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
  Mirror(const Parts& parts, const std::vector<IpAddress>& send_from);

  void start() { thread_.start(); }
  /// Takes over what the vector holds and leaves it empty. Any thread.
  void take(std::vector<engine::Actions::Copy>& copies);
  void stop() { thread_.stop(); }
  const engine::Counters& counters() const { return counters_; }
  std::vector<engine::MirrorTally> tallies() const { return mirroring_.tallies(); }

 private:
  host::SystemRandom random_;
  engine::Counters counters_;
  engine::Mirroring mirroring_;
  std::atomic<std::size_t> handed_over_{0};  // and not taken up yet
  AskingThread thread_;
};

}  // namespace jembatan::server
