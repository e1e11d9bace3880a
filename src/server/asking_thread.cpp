#include "server/asking_thread.h"

#include <asio/post.hpp>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {

AskingThread::AskingThread(Part part, EventLog& events, Tap& tap, const std::vector<IpAddress>& send_from)
    : part_(std::move(part)),
      events_(events),
      doors_(io_, std::move(part_.listeners), tap,
             {[] {}, [this](std::uint16_t door, const Received& in) { part_.on_request(door, in, turn()); },
              [this] { carry_out(); }}),
      lanes_(
          io_, send_from, tap,
          [this](std::uint16_t lane, const Received& datagram) { part_.on_reply(lane, datagram, turn()); },
          [this] { carry_out(); }) {}

AskingThread::~AskingThread() {
  stop();
}

void AskingThread::start() {
  asio::post(io_, [this] { doors_.open(); });
  thread_ = std::thread([this] {
    host::name_thread(part_.name);
    io_.run();
  });
}

void AskingThread::post(Work work) {
  asio::post(io_, [this, work = std::move(work)] {
    work(turn());
    carry_out();
  });
}

void AskingThread::carry_out() {
  part_.finish(turn());
  doors_.send(actions_);
  if (!actions_.asks.empty()) {
    if (const Status sent = lanes_.send(actions_); !sent) log_error(sent.error().at(part_.name).text);
  }
  events_.take(actions_.events, actions_.notices);
  actions_.clear();
  set_timer();
}

void AskingThread::set_timer() {
  const auto deadline = part_.next_deadline();
  timer_.cancel();
  if (!deadline) return;
  timer_.expires_at(*deadline);
  timer_.async_wait([this](const asio::error_code& error) {
    if (error) return;
    part_.on_timer(turn());
    carry_out();
  });
}

void AskingThread::stop(Work last) {
  if (!thread_.joinable()) return;
  asio::post(io_, [this, last = std::move(last)] {
    last(turn());
    events_.take(actions_.events, actions_.notices);
    timer_.cancel();
    doors_.close(Duration{0});
    lanes_.close();
    work_.reset();
    io_.stop();
  });
  thread_.join();
}

}  // namespace jembatan::server
