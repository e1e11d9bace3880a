#pragma once
#include "engine/delivery.h"
#include "server/accounting_writer.h"
#include "server/asking_thread.h"
#include "server/plan_slot.h"

namespace jembatan::server {

/// The thread that sends accounting records on: from the durable queue, until each is acknowledged. What
/// nobody acknowledged is offered again every few seconds, also after a restart.
class Deliverer {
 public:
  struct Parts {
    PlanSlot& plan;
    EventLog& events;
    Tap& tap;
    std::function<void()> doubts;  ///< called when a server with a probe was silent
  };
  /// `queue` is a connection of its own to the store.
  Deliverer(std::unique_ptr<accounting::Store> queue, const std::vector<IpAddress>& send_from, Parts parts);
  ~Deliverer();

  /// The writer takes acknowledged records off the queue.
  void start(AccountingWriter& writer);
  /// There may be something new in the queue. Any thread.
  void look();
  /// Answer to AccountingWriter::delivered. Any thread.
  void taken_off(std::vector<std::int64_t> places);
  void stop();
  std::size_t under_way() const { return under_way_.load(std::memory_order_relaxed); }
  const engine::Progress& progress() const { return delivery_.progress(); }
  const engine::Counters& counters() const { return counters_; }

 private:
  void take_up(const engine::Turn& turn);
  void on_timer(const engine::Turn& turn);
  void carried_out(const engine::Actions& actions);

  std::unique_ptr<accounting::Store> queue_;
  Parts parts_;
  AccountingWriter* writer_ = nullptr;
  host::SystemRandom random_;
  engine::Counters counters_;
  engine::Delivery delivery_;
  std::uint64_t plan_generation_ = 0;
  std::int64_t behind_place_ = 0;
  TimePoint next_sweep_;  // from the front of the queue
  std::atomic<std::size_t> under_way_{0};
  std::atomic<bool> look_waits_{false};
  AskingThread thread_;
};

}  // namespace jembatan::server
