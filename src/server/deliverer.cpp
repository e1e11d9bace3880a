#include "server/deliverer.h"

#include <asio/post.hpp>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kMostUnderWay = 2000;
constexpr auto kSweepEvery = 5s;

}  // namespace

Deliverer::Deliverer(std::unique_ptr<accounting::Store> queue, const std::vector<IpAddress>& send_from,
                     Parts parts)
    : queue_(std::move(queue)),
      parts_(std::move(parts)),
      delivery_(random_, counters_, kMostUnderWay),
      lanes_(
          io_, send_from, parts_.tap,
          [this](std::uint16_t lane, const Received& datagram) {
            delivery_.on_reply(lane, datagram.from, datagram.octets, {clock_.now(), actions_});
          },
          [this] { carry_out(); }) {}

Deliverer::~Deliverer() {
  stop();
}

void Deliverer::start(AccountingWriter& writer) {
  writer_ = &writer;
  asio::post(io_, [this] { sweep(); });
  thread_ = std::thread([this] {
    host::name_thread("deliverer");
    io_.run();
  });
}

void Deliverer::look() {
  if (look_waits_.exchange(true)) return;
  asio::post(io_, [this] {
    look_waits_ = false;
    take_up();
    carry_out();
  });
}

// Starts over from the front of the queue: what was given up waits there.
void Deliverer::sweep() {
  behind_place_ = 0;
  take_up();
  carry_out();
  sweep_timer_.expires_after(kSweepEvery);
  sweep_timer_.async_wait([this](const asio::error_code& error) {
    if (!error) sweep();
  });
}

void Deliverer::take_up() {
  if (parts_.plan.generation() != plan_generation_) {
    plan_generation_ = parts_.plan.generation();
    delivery_.use(parts_.plan.current());
  }
  while (const std::size_t room = delivery_.room()) {
    auto waiting = queue_->undelivered(behind_place_, room);
    if (!waiting) return log_error(waiting.error().at("accounting queue").text);
    if (waiting->empty()) return;
    behind_place_ = waiting->back().place;
    delivery_.offer(std::move(*waiting), {clock_.now(), actions_});
  }
}

void Deliverer::carry_out() {
  if (!actions_.asks.empty()) {
    if (const Status sent = lanes_.send(actions_); !sent)
      log_error(sent.error().at("forwarding accounting").text);
  }
  parts_.events.take(actions_.events, actions_.notices);
  if (actions_.doubts) parts_.doubts();
  actions_.clear();
  auto delivered = delivery_.take_delivered();
  if (!delivered.empty()) {
    writer_->delivered(std::move(delivered));
    if (delivery_.room() > kMostUnderWay / 2) look();
  }
  under_way_.store(delivery_.under_way(), std::memory_order_relaxed);
  set_timer();
}

void Deliverer::set_timer() {
  const auto deadline = delivery_.next_deadline();
  timer_.cancel();
  if (!deadline) return;
  timer_.expires_at(*deadline);
  timer_.async_wait([this](const asio::error_code& error) {
    if (error) return;
    delivery_.on_timer({clock_.now(), actions_});
    carry_out();
  });
}

void Deliverer::taken_off(std::vector<std::int64_t> places) {
  asio::post(io_, [this, places = std::move(places)] { delivery_.taken_off(places); });
}

void Deliverer::stop() {
  if (!thread_.joinable()) return;
  asio::post(io_, [this] {
    timer_.cancel();
    sweep_timer_.cancel();
    lanes_.close();
    work_.reset();
    io_.stop();
  });
  thread_.join();
  queue_.reset();
}

}  // namespace jembatan::server
