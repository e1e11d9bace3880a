#include "server/worker.h"

#include <asio/post.hpp>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

constexpr std::chrono::milliseconds kDrainWithin{200};

engine::Settings settings_for(const std::vector<Listener>& listeners, const Shared& shared) {
  engine::Settings out;
  out.watched = &shared.unmask.any();
  out.no_stories = &shared.events.no_stories();
  out.slowdown = shared.slowdown;
  out.loop_mark = shared.loop_mark;
  out.conversations = shared.conversations;
  out.origins = shared.origins;
  out.elsewhere = shared.online;
  out.group_percent = shared.group_percent;
  out.client_percent = shared.client_percent;
  for (const Listener& listener : listeners) out.listeners.push_back({listener.purpose, listener.at});
  return out;
}

}  // namespace

Worker::Worker(std::size_t index, std::vector<Listener> listeners, const std::vector<IpAddress>& send_from,
               Shared shared)
    : index_(index),
      shared_(shared),
      engine_(settings_for(listeners, shared), random_, counters_),
      lanes_(
          io_, send_from, shared_.tap,
          [this](std::uint16_t lane, const Received& datagram) {
            engine_.on_reply(lane, datagram.from, datagram.octets, {clock_.now(), actions_});
          },
          [this] { carry_out(); }) {
  for (Listener& listener : listeners) {
    listeners_.push_back(std::make_unique<WatchedSocket>(io_, std::move(listener.socket)));
  }
}

Worker::~Worker() {
  stop();
}

void Worker::start() {
  asio::post(io_, [this] {
    take_new_plan();
    for (std::size_t i = 0; i < listeners_.size(); ++i) watch(i);
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

void Worker::watch(std::size_t listener) {
  WatchedSocket& watched = *listeners_[listener];
  watched.readable.async_wait(asio::posix::stream_descriptor::wait_read,
                              [this, listener](const asio::error_code& error) {
                                if (error) return;
                                receive(listener);
                                if (!stopping_) watch(listener);
                              });
}

Endpoint Worker::local_of(std::size_t listener, const IpAddress& address) const {
  return {address, listeners_[listener]->socket.local().port};
}

bool Worker::receive(std::size_t listener) {
  take_new_plan();
  const auto received = listeners_[listener]->socket.receive(batch_);
  if (shared_.tap.open()) {
    for (const Received& in : received) {
      shared_.tap.pass(in.from, local_of(listener, in.to), in.octets, clock_.now().wall);
    }
  }
  for (const Received& in : received) {
    engine_.handle({static_cast<std::uint16_t>(listener), in.from, in.to, in.octets},
                   {clock_.now(), actions_});
  }
  carry_out();
  return !received.empty();
}

// Work that nobody takes ends its request at once, which gives more to do.
void Worker::carry_out() {
  for (bool more = true; more;) {
    send_replies();
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

void Worker::send_replies() {
  for (std::size_t at = 0; at < actions_.replies.size();) {
    const std::uint16_t listener = actions_.replies[at].listener;
    outgoing_.clear();
    for (; at < actions_.replies.size() && actions_.replies[at].listener == listener; ++at) {
      const auto& reply = actions_.replies[at];
      outgoing_.push_back({reply.to, reply.from, actions_.view(reply.packet)});
    }
    listeners_[listener]->socket.send(outgoing_);
    if (!shared_.tap.open()) continue;
    for (const auto& sent : outgoing_) {
      shared_.tap.pass(local_of(listener, sent.from), sent.to, sent.octets, clock_.now().wall);
    }
  }
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
  const bool taken =
      shared_.proofs.prove(std::get<engine::Job::Compare>(std::move(job.work)), [this, ticket](bool matches) {
        asio::post(io_, [this, ticket, matches] {
          engine_.on_done(ticket, engine::Compared{matches}, {clock_.now(), actions_});
          carry_out();
        });
      });
  if (!taken) not_done("too many passwords wait to be compared");
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
  asio::post(io_, [this] {
    stopping_ = true;
    for (std::size_t i = 0; i < listeners_.size(); ++i) {
      listeners_[i]->readable.cancel();
      // What the system has taken in already is still answered; a flood does not go on for ever.
      const TimePoint until = clock_.now().steady + kDrainWithin;
      while (clock_.now().steady < until && receive(i)) continue;
    }
  });
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
