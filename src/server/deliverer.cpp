#include "server/deliverer.h"

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
      thread_({.name = "deliverer",
               .on_reply =
                   [this](std::uint16_t lane, const Received& datagram, const engine::Turn& turn) {
                     delivery_.on_reply(lane, datagram.from, datagram.octets, turn);
                   },
               .on_timer = [this](const engine::Turn& turn) { on_timer(turn); },
               .next_deadline =
                   [this] { return std::min(next_sweep_, delivery_.next_deadline().value_or(next_sweep_)); },
               .carried_out = [this](const engine::Actions& actions) { carried_out(actions); }},
              parts_.events, parts_.tap, send_from) {}

Deliverer::~Deliverer() {
  stop();
}

void Deliverer::start(AccountingWriter& writer) {
  writer_ = &writer;
  thread_.post([this](const engine::Turn& turn) { on_timer(turn); });
  thread_.start();
}

void Deliverer::look() {
  if (look_waits_.exchange(true)) return;
  thread_.post([this](const engine::Turn& turn) {
    look_waits_ = false;
    take_up(turn);
  });
}

// Now and then it starts over from the front of the queue: what was given up waits there.
void Deliverer::on_timer(const engine::Turn& turn) {
  delivery_.on_timer(turn);
  if (turn.now.steady < next_sweep_) return;
  next_sweep_ = turn.now.steady + kSweepEvery;
  behind_place_ = 0;
  take_up(turn);
}

void Deliverer::take_up(const engine::Turn& turn) {
  if (parts_.plan.generation() != plan_generation_) {
    plan_generation_ = parts_.plan.generation();
    delivery_.use(parts_.plan.current());
  }
  while (const std::size_t room = delivery_.room()) {
    auto waiting = queue_->undelivered(behind_place_, room);
    if (!waiting) return log_error(waiting.error().at("accounting queue").text);
    if (waiting->empty()) return;
    behind_place_ = waiting->back().place;
    delivery_.offer(std::move(*waiting), turn);
  }
}

void Deliverer::carried_out(const engine::Actions& actions) {
  if (actions.doubts) parts_.doubts();
  auto delivered = delivery_.take_delivered();
  if (!delivered.empty()) {
    writer_->delivered(std::move(delivered));
    if (delivery_.room() > kMostUnderWay / 2) look();
  }
  under_way_.store(delivery_.under_way(), std::memory_order_relaxed);
}

void Deliverer::taken_off(std::vector<std::int64_t> places) {
  thread_.post([this, places = std::move(places)](const engine::Turn&) { delivery_.taken_off(places); });
}

void Deliverer::stop() {
  thread_.stop();
  queue_.reset();
}

}  // namespace jembatan::server
