#include "server/worker.h"

#include <asio/post.hpp>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

constexpr Duration kDrainWithin{200};

engine::Settings settings_for(const std::vector<Listener>& listeners, const Shared& shared) {
  engine::Settings out;
  out.watched = &shared.unmask.any();
  out.no_stories = &shared.events.no_stories();
  out.slowdown = shared.slowdown;
  out.loop_mark = shared.loop_mark;
  out.conversations = shared.conversations;
  out.origins = shared.origins;
  out.remembered = shared.remembered;
  out.elsewhere = shared.online;
  out.group_percent = shared.group_percent;
  out.client_percent = shared.client_percent;
  out.listeners = listening(listeners);
  return out;
}

}  // namespace

Worker::Worker(std::size_t index, std::vector<Listener> listeners, const std::vector<IpAddress>& send_from,
               Shared shared)
    : index_(index),
      shared_(shared),
      engine_(settings_for(listeners, shared), random_, counters_),
      doors_(io_, std::move(listeners), shared_.tap,
             {[this] { take_new_plan(); },
              [this](std::uint16_t door, const Received& in) {
                engine_.handle({door, in.from, in.to, in.octets}, {clock_.now(), actions_});
              },
              [this] { carry_out(); }}),
      lanes_(
          io_, send_from, shared_.tap,
          [this](std::uint16_t lane, const Received& datagram) {
            engine_.on_reply(lane, datagram.from, datagram.octets, {clock_.now(), actions_});
          },
          [this] { carry_out(); }) {}

Worker::~Worker() {
  stop();
}

void Worker::start() {
  asio::post(io_, [this] {
    take_new_plan();
    doors_.open();
  });
  thread_ = std::thread([this] {
    host::name_thread("worker-" + std::to_string(index_));
    io_.run();
  });
}

void Worker::take_new_plan() {
  const std::uint64_t generation = shared_.plan.generation();
  if (generation == plan_generation_) return;
  plan_generation_ = generation;
  engine_.use(shared_.plan.current(), {clock_.now(), actions_});
}

// Work that nobody takes ends its request at once, which gives more to do.
void Worker::carry_out() {
  for (bool more = true; more;) {
    doors_.send(actions_);
    if (!actions_.asks.empty()) {
      if (const Status sent = lanes_.send(actions_); !sent) log_error(sent.error().at("forwarding").text);
    }
    auto jobs = std::exchange(actions_.jobs, {});
    shared_.events.take(actions_.events, actions_.notices);
    for (auto& password : actions_.rejected) shared_.unmask.rejected(std::move(password));
    if (actions_.doubts) shared_.doubts();
    if (!actions_.copies.empty()) shared_.copies(actions_.copies);
    actions_.clear();
    for (engine::Job& job : jobs) hand_over(std::move(job));
    more = !jobs.empty();
  }
  in_flight_.store(engine_.in_flight(), std::memory_order_relaxed);
  set_timer();
}

void Worker::hand_over(engine::Job job) {
  const Ticket ticket = job.ticket;
  const auto not_done = [&](std::string_view because) {
    engine_.on_done(ticket, engine::NotDone{because}, {clock_.now(), actions_});
  };
  if (auto* record = std::get_if<engine::Job::Record>(&job.work)) {
    if (!shared_.writer.record({index_, ticket, std::move(record->incoming)}))
      not_done("too many records wait to be written");
    return;
  }
  if (auto* look_up = std::get_if<engine::Job::LookUp>(&job.work)) {
    return shared_.directories.look_up(
        std::move(*look_up), [this, ticket](engine::LookedUp found) { done(ticket, std::move(found)); });
  }
  if (auto* judge = std::get_if<engine::Job::Judge>(&job.work)) {
    if (!shared_.codes.judge(std::move(*judge),
                             [this, ticket](engine::Judged judged) { done(ticket, std::move(judged)); }))
      not_done("too many one-time codes wait to be looked at");
    return;
  }
  const bool taken =
      shared_.proofs.prove(std::get<engine::Job::Compare>(std::move(job.work)),
                           [this, ticket](bool matches) { done(ticket, engine::Compared{matches}); });
  if (!taken) not_done("too many passwords wait to be compared");
}

void Worker::done(Ticket ticket, engine::JobResult result) {
  asio::post(io_, [this, ticket, result = std::move(result)] {
    engine_.on_done(ticket, result, {clock_.now(), actions_});
    carry_out();
  });
}

void Worker::set_timer() {
  const auto deadline = engine_.next_deadline();
  const TimePoint at = deadline.value_or(TimePoint::max());
  if (!deadline || at >= timer_at_) return;  // when it comes too early, it is set anew
  timer_at_ = at;
  timer_.expires_at(at);
  timer_.async_wait([this](const asio::error_code& error) {
    if (error) return;
    timer_at_ = TimePoint::max();
    engine_.on_timer({clock_.now(), actions_});
    carry_out();
  });
}

void Worker::recorded(std::vector<AccountingWriter::Done> done) {
  asio::post(io_, [this, done = std::move(done)] {
    const Now now = clock_.now();
    for (const auto& one : done) engine_.on_done(one.ticket, one.kept, {now, actions_});
    carry_out();
  });
}

void Worker::stop_listening() {
  asio::post(io_, [this] { doors_.close(kDrainWithin); });
}

void Worker::stop() {
  if (!thread_.joinable()) return;
  asio::post(io_, [this] {
    engine_.stop({clock_.now(), actions_});
    carry_out();
    lanes_.close();
    timer_.cancel();
    work_.reset();
    io_.stop();
  });
  thread_.join();
}

}  // namespace jembatan::server
