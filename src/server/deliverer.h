#pragma once
#include <asio/executor_work_guard.hpp>
#include <asio/steady_timer.hpp>
#include <thread>

#include "engine/delivery.h"
#include "host/system.h"
#include "server/accounting_writer.h"
#include "server/event_log.h"
#include "server/lanes.h"
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
  void take_up();
  void sweep();
  void carry_out();
  void set_timer();

  std::unique_ptr<accounting::Store> queue_;
  Parts parts_;
  AccountingWriter* writer_ = nullptr;
  asio::io_context io_{1};
  asio::executor_work_guard<asio::io_context::executor_type> work_{io_.get_executor()};
  asio::steady_timer timer_{io_};
  asio::steady_timer sweep_timer_{io_};
  host::SystemClock clock_;
  host::SystemRandom random_;
  engine::Counters counters_;
  engine::Delivery delivery_;
  engine::Actions actions_;
  Lanes lanes_;
  std::uint64_t plan_generation_ = 0;
  std::int64_t behind_place_ = 0;
  std::atomic<std::size_t> under_way_{0};
  std::atomic<bool> look_waits_{false};
  std::thread thread_;
};

}  // namespace jembatan::server
