#pragma once
#include "engine/dynamic_authorization.h"
#include "server/asking_thread.h"
#include "server/plan_slot.h"

namespace jembatan::server {

/// The thread that takes requests about sessions and passes them on to their devices
/// (engine::DynamicAuthorization).
class Authorizer {
 public:
  struct Parts {
    PlanSlot& plan;
    EventLog& events;
    Tap& tap;
    std::shared_ptr<const engine::LoopMark> loop_mark;
    std::unique_ptr<engine::SessionFinder> sessions;
  };
  Authorizer(Parts parts, std::vector<Listener> listeners, const std::vector<IpAddress>& send_from);
  ~Authorizer();

  void start();
  /// A new plan is in force. Any thread.
  void new_plan();
  /// Asks the device of a session and waits for what comes of it. Any thread but its own.
  ///   errors  Errc::unreachable: the node is being stopped
  Result<engine::SessionAnswer> ask(engine::SessionRequest request);
  void stop();
  const engine::Counters& counters() const { return counters_; }

 private:
  PlanSlot& plan_;
  std::unique_ptr<engine::SessionFinder> sessions_;
  host::SystemRandom random_;
  engine::Counters counters_;
  engine::DynamicAuthorization authorization_;
  AskingThread thread_;
};

}  // namespace jembatan::server
