#pragma once
#include <asio/executor_work_guard.hpp>
#include <asio/steady_timer.hpp>
#include <thread>

#include "engine/engine.h"
#include "host/system.h"
#include "server/accounting_writer.h"
#include "server/code_judge.h"
#include "server/directories.h"
#include "server/doors.h"
#include "server/event_log.h"
#include "server/plan_slot.h"
#include "server/proof_pool.h"
#include "server/tap.h"
#include "server/unmask.h"

namespace jembatan::server {

/// What all workers share; every part may be called from any thread.
struct Shared {
  PlanSlot& plan;
  EventLog& events;
  AccountingWriter& writer;
  ProofPool& proofs;
  Directories& directories;
  CodeJudge& codes;
  Tap& tap;
  Unmask& unmask;
  std::function<void()> doubts;  ///< called when a server with a probe was silent
  std::function<void(std::vector<engine::Actions::Copy>&)> copies;  ///< takes what is to be mirrored
  std::shared_ptr<engine::Slowdown> slowdown;
  std::shared_ptr<const engine::LoopMark> loop_mark;
  std::shared_ptr<engine::Conversations> conversations;
  std::shared_ptr<engine::Origins> origins;
  std::shared_ptr<engine::Remembered> remembered;
  std::shared_ptr<decide::Elsewhere> online;
  unsigned group_percent = 50;
  unsigned client_percent = 50;
};

/// One thread that receives, decides and answers, with sockets, tables and randomness of its own.
class Worker {
 public:
  Worker(std::size_t index, std::vector<Listener> listeners, const std::vector<IpAddress>& send_from,
         Shared shared);
  ~Worker();

  void start();
  /// Stops receiving new requests; those under way go on. Any thread.
  void stop_listening();
  /// Ends what is left without an answer, then the thread. Any thread.
  void stop();
  /// Records that this worker handed to the writer are durable, or are not. Any thread.
  void recorded(std::vector<AccountingWriter::Done> done);

  std::size_t in_flight() const { return in_flight_.load(std::memory_order_relaxed); }
  const engine::Counters& counters() const { return counters_; }

 private:
  void take_new_plan();
  /// Carries out what the engine wants done.
  void carry_out();
  void hand_over(engine::Job job);
  /// Called by whoever does a job, on any thread.
  void done(Ticket ticket, engine::JobResult result);
  void set_timer();

  std::size_t index_;
  Shared shared_;
  asio::io_context io_{1};
  asio::executor_work_guard<asio::io_context::executor_type> work_{io_.get_executor()};
  asio::steady_timer timer_{io_};
  host::SystemClock clock_;
  host::SystemRandom random_;
  engine::Counters counters_;
  engine::Engine engine_;
  engine::Actions actions_;
  Doors doors_;
  Lanes lanes_;
  std::uint64_t plan_generation_ = 0;
  TimePoint timer_at_ = TimePoint::max();
  std::atomic<std::size_t> in_flight_{0};
  std::thread thread_;
};

}  // namespace jembatan::server
