#include "server/deliverer.h"

#include "server/log.h"

namespace jembatan::server {

using namespace std::chrono_literals;

Deliverer::Deliverer(std::unique_ptr<accounting::Store> queue, const std::vector<IpAddress>& send_from,
                     Parts parts)
    : queue_(std::move(queue)),
      parts_(std::move(parts)),
      delivery_(random_, counters_),
      thread_({.name = "deliverer",
               .on_reply =
                   [this](std::uint16_t lane, const Received& datagram, const engine::Turn& turn) {
                     delivery_.on_reply(lane, datagram.from, datagram.octets, turn);
                   },
               .on_timer = [this](const engine::Turn& turn) { delivery_.on_timer(turn); },
               .next_deadline = [this] { return next_deadline(); },
               .finish = [this](const engine::Turn& turn) { finish(turn); }},
              parts_.events, parts_.tap, send_from) {}

Deliverer::~Deliverer() {
  stop();
}

void Deliverer::start(Filler& filler) {
  filler_ = &filler;
  thread_.post([this](const engine::Turn&) {
    const auto groups = queue_->waiting_groups();
    if (!groups) return log_error(groups.error().at("accounting queue").text);
    for (const std::string& group : *groups) delivery_.more(group);
  });
  thread_.start();
}

void Deliverer::hold(std::chrono::milliseconds at_most) {
  thread_.post([this, at_most](const engine::Turn& turn) { not_before_ = turn.now.steady + at_most; });
}

void Deliverer::release() {
  thread_.post([this](const engine::Turn&) { not_before_.reset(); });
}

void Deliverer::look(const std::set<std::string>& groups) {
  thread_.post([this, groups](const engine::Turn&) {
    for (const std::string& group : groups) delivery_.more(group);
  });
}

void Deliverer::begin_anew(const std::set<std::string>& groups) {
  thread_.post([this, groups](const engine::Turn&) {
    for (const std::string& group : groups) delivery_.begin_anew(group);
  });
}

void Deliverer::taken_off(std::vector<accounting::Delivered> records) {
  thread_.post([this, records = std::move(records)](const engine::Turn&) { delivery_.taken_off(records); });
}

std::optional<TimePoint> Deliverer::next_deadline() {
  const auto out = delivery_.next_deadline();
  return out && not_before_ ? std::max(*out, *not_before_) : out;
}

// Whatever has happened, queues have room now, or something to be told.
void Deliverer::finish(const engine::Turn& turn) {
  if (parts_.plan.generation() != plan_generation_) {
    plan_generation_ = parts_.plan.generation();
    delivery_.use(parts_.plan.current());
  }
  take_up(turn.now.steady);
  delivery_.send(turn);
  if (turn.out.doubts) parts_.doubts();
  if (auto delivered = delivery_.take_delivered(); !delivered.empty())
    filler_->delivered(std::move(delivered));
  if (auto aside = delivery_.take_set_aside(); !aside.empty()) filler_->set_aside(std::move(aside));
  under_way_.store(delivery_.under_way(), std::memory_order_relaxed);
}

void Deliverer::take_up(TimePoint now) {
  if (not_before_ && now < *not_before_) return;
  not_before_.reset();
  for (const engine::Delivery::Wish& wish : delivery_.wishes(now)) {
    auto waiting = queue_->undelivered(wish.group, wish.behind, wish.most);
    if (!waiting) {
      not_before_ = now + 1s;
      return log_error(waiting.error().at("accounting queue").text);
    }
    delivery_.offer(wish, std::move(*waiting));
  }
}

void Deliverer::stop() {
  thread_.stop();
  queue_.reset();
}

}  // namespace jembatan::server
