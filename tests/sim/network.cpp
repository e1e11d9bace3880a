#include "sim/network.h"

#include "support/packets.h"
#include "wire/authenticator.h"

namespace jembatan::sim {
namespace {

using namespace std::chrono_literals;

constexpr std::uint16_t kAccessLanes = 20000;
constexpr std::uint16_t kSecondLanes = 25000;
constexpr std::uint16_t kAccountingLanes = 30000;
constexpr auto kSweepEvery = 5s;
constexpr auto kDeviceWaits = 4s;
constexpr int kDeviceTries = 40;  // patient: every sign-in must end right, however many datagrams are lost

}  // namespace

accounting::Kept MemoryStore::append(const accounting::Incoming& incoming) {
  for (const accounting::Record& known : records_) {
    const auto apart = known.event_time - incoming.record.event_time;
    if (known.digest == incoming.record.digest && std::chrono::abs(apart) <= accounting::kResendWindow) {
      return {known.id, true};
    }
  }
  records_.push_back(incoming.record);
  records_.back().id = static_cast<std::int64_t>(records_.size());
  for (const std::string& group : incoming.groups) queue_.push_back({next_place_++, group, records_.back()});
  return {records_.back().id, false};
}

void MemoryStore::delivered(const std::vector<std::int64_t>& places) {
  std::erase_if(queue_, [&](const auto& item) {
    return std::find(places.begin(), places.end(), item.place) != places.end();
  });
}

Node::Node(Network& network, std::string address, std::string_view plan, const Tune& tune)
    : network_(network),
      address_(*IpAddress::parse(address)),
      random_(network.next_seed()),
      delivery_(random_, counters_, 64),
      next_sweep_(network.now().steady) {
  engine::Settings settings{
      {{forward::Purpose::access, {}}, {forward::Purpose::accounting, {}}}, 4096, 10000ms, 4096};
  settings.slowdown = std::make_shared<engine::Slowdown>(7);
  settings.loop_mark = std::make_shared<const engine::LoopMark>(Secret(address));
  settings.conversations = std::make_shared<engine::Conversations>();
  settings.origins = std::make_shared<engine::Origins>(11);
  if (tune) tune(settings);
  const auto live = board_.go_live(support::plan_of(plan), 1);
  for (Worker& worker : workers_) {
    worker.engine = std::make_unique<engine::Engine>(settings, random_, counters_);
    worker.lanes = &worker == workers_.data() ? kAccessLanes : kSecondLanes;
    worker.engine->use(live, {network_.now(), worker.actions});
  }
  delivery_.use(live);
}

void Node::receive(const Endpoint& from, const Endpoint& to, const Octets& datagram) {
  if (silent) return;
  const Now now = network_.now();
  if (to.port >= kAccountingLanes) {
    delivery_.on_reply(static_cast<std::uint16_t>(to.port - kAccountingLanes), from, datagram,
                       {now, actions_});
    const auto places = delivery_.take_delivered();
    store_.delivered(places);
    delivery_.taken_off(places);
    return leave(std::exchange(actions_, {}), kAccountingLanes);
  }
  Worker& worker = workers_[(to.port >= kAccessLanes ? to.port / kSecondLanes : from.port) % workers_.size()];
  if (to.port >= kAccessLanes) {
    worker.engine->on_reply(static_cast<std::uint16_t>(to.port - worker.lanes), from, datagram,
                            {now, worker.actions});
  } else {
    worker.engine->handle({static_cast<std::uint16_t>(to.port == 1812 ? 0 : 1), from, to.address, datagram},
                          {now, worker.actions});
  }
  carry_out(worker);
}

void Node::leave(const engine::Actions& actions, std::uint16_t lanes) {
  const auto send = [&](std::uint16_t port, const Endpoint& to, engine::Actions::Piece packet) {
    if (!silent) network_.send({address_, port}, to, actions.view(packet));
  };
  for (const auto& reply : actions.replies) send(reply.listener == 0 ? 1812 : 1813, reply.to, reply.packet);
  for (const auto& ask : actions.asks) send(static_cast<std::uint16_t>(lanes + ask.lane), ask.to, ask.packet);
}

void Node::carry_out(Worker& worker) {
  const auto place = static_cast<std::size_t>(&worker - workers_.data());
  while (!worker.actions.jobs.empty()) {
    const auto all = std::exchange(worker.actions.jobs, {});
    for (const engine::Job& job : all) do_job(place, job);
    bring_results(worker);
  }
  leave(std::exchange(worker.actions, {}), worker.lanes);
  delivery_.offer(store_.undelivered(), {network_.now(), actions_});
  leave(std::exchange(actions_, {}), kAccountingLanes);
}

void Node::do_job(std::size_t worker, const engine::Job& job) {
  const auto chance = [this](double part) { return random_.below(1'000'000) < part * 1'000'000; };
  engine::JobResult result;
  if (const auto* record = std::get_if<engine::Job::Record>(&job.work)) {
    result = jembatan::Result<accounting::Kept>(store_.append(record->incoming));
  } else {
    const auto& compare = std::get<engine::Job::Compare>(job.work);
    result = engine::Compared{compare.stored->matches(compare.typed.reveal())};
  }
  const int copies = chance(jobs.loss) ? 0 : chance(jobs.twice) ? 2 : 1;
  for (int i = 0; i < copies; ++i) {
    const auto delay = random_.below(static_cast<std::uint32_t>(jobs.most.count() + 1));
    results_.push_back(
        {network_.now().steady + std::chrono::milliseconds(delay), worker, job.ticket, result});
  }
}

void Node::bring_results(Worker& worker) {
  const Now now = network_.now();
  const auto place = static_cast<std::size_t>(&worker - workers_.data());
  std::vector<Result> due;
  std::erase_if(results_, [&](Result& result) {
    if (result.worker != place || result.at > now.steady) return false;
    due.push_back(std::move(result));
    return true;
  });
  for (const Result& result : due) worker.engine->on_done(result.ticket, result.what, {now, worker.actions});
}

void Node::turn() {
  const Now now = network_.now();
  for (Worker& worker : workers_) {
    bring_results(worker);
    worker.engine->on_timer({now, worker.actions});
    carry_out(worker);
  }
  delivery_.on_timer({now, actions_});
  if (now.steady >= next_sweep_) {
    next_sweep_ = now.steady + kSweepEvery;
    delivery_.offer(store_.undelivered(), {now, actions_});
  }
  leave(std::exchange(actions_, {}), kAccountingLanes);
}

std::optional<TimePoint> Node::next_deadline() {
  std::optional<TimePoint> out;
  const auto sooner = [&out](std::optional<TimePoint> other) {
    if (other && (!out || *other < *out)) out = other;
  };
  for (Worker& worker : workers_) sooner(worker.engine->next_deadline());
  for (const Result& result : results_) sooner(result.at);
  sooner(delivery_.next_deadline());
  if (!store_.undelivered().empty()) sooner(next_sweep_);
  return out;
}

Device::Device(Network& network, Endpoint own_endpoint, Endpoint server, Octets request,
               wire::SharedSecret secret)
    : own(own_endpoint),
      network_(network),
      server_(server),
      request_(std::move(request)),
      secret_(std::move(secret)),
      next_(network.now().steady) {}

void Device::receive(const Octets& datagram) {
  const auto reply = wire::PacketView::parse(datagram);
  if (!reply || !wire::verify_response(*reply, wire::PacketView::parse(request_)->authenticator(), secret_))
    return;
  ++replies_;
  answer_ = reply->code();
  reply_ = datagram;
}

void Device::turn() {
  if (answer_ || sent_ == kDeviceTries || network_.now().steady < next_) return;
  ++sent_;
  next_ = network_.now().steady + kDeviceWaits;
  network_.send(own, server_, request_);
}

std::optional<TimePoint> Device::next_deadline() const {
  if (answer_ || sent_ == kDeviceTries) return std::nullopt;
  return next_;
}

Node& Network::add_node(const std::string& address, std::string_view plan, const Tune& tune) {
  auto node = std::make_unique<Node>(*this, address, plan, tune);
  const IpAddress at = node->address();
  return *(nodes_[at] = std::move(node));
}

Device& Network::add_device(const std::string& own, const std::string& server, Octets request,
                            const wire::SharedSecret& secret) {
  const Endpoint at = *Endpoint::parse(own, 0);
  auto device = std::make_unique<Device>(*this, at, *Endpoint::parse(server, 0), std::move(request), secret);
  return *(devices_[at] = std::move(device));
}

void Network::send(const Endpoint& from, const Endpoint& to, OctetView datagram) {
  const auto chance = [this](double part) { return random_.below(1'000'000) < part * 1'000'000; };
  const int copies = chance(quality_.loss) ? 0 : chance(quality_.twice) ? 2 : 1;
  for (int i = 0; i < copies; ++i) {
    const auto spread = static_cast<std::uint32_t>((quality_.most - quality_.least).count() + 1);
    const auto delay = quality_.least + std::chrono::milliseconds(random_.below(spread));
    flying_.push({now().steady + delay, ++flights_, from, to, Octets(datagram.begin(), datagram.end())});
  }
}

void Network::deliver(const Flight& flight) {
  if (const auto device = devices_.find(flight.to); device != devices_.end())
    return device->second->receive(flight.datagram);
  if (const auto node = nodes_.find(flight.to.address); node != nodes_.end()) {
    node->second->receive(flight.from, flight.to, flight.datagram);
  }
}

std::optional<TimePoint> Network::next_event() {
  std::optional<TimePoint> out;
  const auto sooner = [&out](std::optional<TimePoint> other) {
    if (other && (!out || *other < *out)) out = other;
  };
  if (!flying_.empty()) sooner(flying_.top().at);
  for (const auto& [address, node] : nodes_) sooner(node->next_deadline());
  for (const auto& [endpoint, device] : devices_) sooner(device->next_deadline());
  return out;
}

void Network::run(std::chrono::seconds at_most) {
  const TimePoint until = now().steady + at_most;
  while (const auto next = next_event()) {
    if (*next > until) {
      if (until > now().steady)
        clock_.advance(std::chrono::ceil<std::chrono::milliseconds>(until - now().steady));
      return;
    }
    if (*next > now().steady) {
      clock_.advance(std::chrono::ceil<std::chrono::milliseconds>(*next - now().steady));
    }
    while (!flying_.empty() && flying_.top().at <= now().steady) {
      const Flight flight = flying_.top();
      flying_.pop();
      deliver(flight);
    }
    for (const auto& [address, node] : nodes_) node->turn();
    for (const auto& [endpoint, device] : devices_) device->turn();
  }
}

}  // namespace jembatan::sim
