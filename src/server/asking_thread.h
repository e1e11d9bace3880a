#pragma once
#include <asio/executor_work_guard.hpp>
#include <asio/steady_timer.hpp>
#include <thread>

#include "host/system.h"
#include "server/doors.h"
#include "server/event_log.h"

namespace jembatan::server {

/// A thread of its own for a part of the engine that asks others: its sockets, its clock and timer, and one
/// place where what the part wants is carried out. Everything of the part happens on that thread.
class AskingThread {
 public:
  using Work = std::function<void(const engine::Turn&)>;
  /// What the part does; called on the thread.
  struct Part {
    std::string name;  ///< of the thread, and in error lines
    std::function<void(std::uint16_t lane, const Received& datagram, const engine::Turn&)> on_reply;
    Work on_timer;
    std::function<std::optional<TimePoint>()> next_deadline;  ///< when on_timer is to be called
    std::vector<Listener> listeners = {};                     ///< of parts that are asked as well
    std::function<void(std::uint16_t door, const Received& datagram, const engine::Turn&)> on_request = {};
    Work finish = [](const engine::Turn&) {};  ///< after each of the others, before it is carried out
  };
  AskingThread(Part part, EventLog& events, Tap& tap, const std::vector<IpAddress>& send_from);
  ~AskingThread();

  void start();
  /// Has the work done on the thread. Any thread.
  void post(Work work);
  /// Does the last work there, closes the sockets and ends the thread; what was posted behind it is not done.
  void stop(Work last = [](const engine::Turn&) {});

 private:
  engine::Turn turn() { return {clock_.now(), actions_}; }
  void carry_out();
  void set_timer();

  Part part_;
  EventLog& events_;
  asio::io_context io_{1};
  asio::executor_work_guard<asio::io_context::executor_type> work_{io_.get_executor()};
  asio::steady_timer timer_{io_};
  host::SystemClock clock_;
  engine::Actions actions_;
  Doors doors_;
  Lanes lanes_;
  std::thread thread_;
};

}  // namespace jembatan::server
