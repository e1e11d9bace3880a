#pragma once
#include <set>

#include "engine/delivery.h"
#include "server/asking_thread.h"
#include "server/filler.h"
#include "server/plan_slot.h"

namespace jembatan::server {

/// The thread that sends accounting records on (engine::Delivery): from the durable queues, until each is
/// acknowledged. What nobody acknowledged is there after a restart.
class Deliverer {
 public:
  struct Parts {
    PlanSlot& plan;
    EventLog& events;
    Tap& tap;
    std::function<void()> doubts;  ///< called when a server with a probe was silent
  };
  /// `queue` is a connection of its own to the store, which only reads.
  Deliverer(std::unique_ptr<accounting::Store> queue, const std::vector<IpAddress>& send_from, Parts parts);
  ~Deliverer();

  /// The filler takes acknowledged records off the queues.
  void start(Filler& filler);
  /// Sends nothing before release(), or before so long: others may have sent some of it.
  void hold(std::chrono::milliseconds at_most);
  /// Any thread.
  void release();
  /// There is something new for these groups, or a new plan. Any thread.
  void look(const std::set<std::string>& groups);
  /// What waits for these groups is not what it was. Any thread.
  void begin_anew(const std::set<std::string>& groups);
  /// Answer to Filler::delivered. Any thread.
  void taken_off(std::vector<accounting::Delivered> records);
  void stop();
  std::size_t under_way() const { return under_way_.load(std::memory_order_relaxed); }
  const engine::Progress& progress() const { return delivery_.progress(); }
  const engine::Counters& counters() const { return counters_; }

 private:
  void finish(const engine::Turn& turn);
  void take_up(TimePoint now);
  std::optional<TimePoint> next_deadline();

  std::unique_ptr<accounting::Store> queue_;
  Parts parts_;
  Filler* filler_ = nullptr;
  host::SystemRandom random_;
  engine::Counters counters_;
  engine::Delivery delivery_;
  std::uint64_t plan_generation_ = 0;
  std::optional<TimePoint> not_before_;  // looking into the store, which could not be read, or is held
  std::atomic<std::size_t> under_way_{0};
  AskingThread thread_;
};

}  // namespace jembatan::server
