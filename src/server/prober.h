#pragma once
#include "engine/probing.h"
#include "server/asking_thread.h"
#include "server/plan_slot.h"

namespace jembatan::server {

/// The thread that asks servers whether they live (engine::Probing).
class Prober {
 public:
  struct Parts {
    PlanSlot& plan;
    EventLog& events;
    Tap& tap;
  };
  ///   name  of the node
  Prober(Parts parts, const std::vector<IpAddress>& send_from, std::string name);
  ~Prober();

  void start();
  /// A new plan is in force. Any thread.
  void new_plan();
  /// Some server with a probe was silent. Any thread.
  void look();
  /// Asks one server once and waits for what comes of it. Any thread but its own.
  ///   of      the plan in force, which the question's places belong to
  ///   errors  Errc::conflict: another plan is in force by now; those of engine::Probing::ask
  Result<engine::ProbeResult> ask(const forward::LivePlanPtr& of, engine::ProbeQuestion question);
  void stop();

 private:
  PlanSlot& plan_;
  host::SystemRandom random_;
  engine::Probing probing_;
  forward::LivePlanPtr live_;
  std::atomic<bool> look_waits_{false};
  AskingThread thread_;
};

}  // namespace jembatan::server
