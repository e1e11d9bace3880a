#include "sim/network.h"

#include "support/packets.h"
#include "wire/authenticator.h"

namespace jembatan::sim {
namespace {

using namespace std::chrono_literals;

constexpr std::uint16_t kAccessLanes = 20000;
constexpr std::uint16_t kSecondLanes = 25000;
constexpr std::uint16_t kAccountingLanes = 30000;
constexpr auto kDeviceWaits = 4s;
constexpr int kDeviceTries = 40;  // patient: every sign-in must end right, however many datagrams are lost

}  // namespace

accounting::Kept MemoryStore::append(const accounting::Incoming& incoming) {
  accounting::Arrival arrival = incoming.arrival;
  if (const auto before = known_.find(arrival)) return {*before, true};
  arrival.id = static_cast<std::int64_t>(records_.size()) + 1;
  known_.add(arrival);
  records_.push_back(accounting::taken_apart(arrival));
  for (const std::string& group : incoming.groups) queues_[group].emplace(arrival.id, arrival);
  return {arrival.id, false};
}

std::vector<accounting::Undelivered> MemoryStore::undelivered(const std::string& group, std::int64_t behind,
                                                              std::size_t most) const {
  std::vector<accounting::Undelivered> out;
  const auto queue = queues_.find(group);
  if (queue == queues_.end()) return out;
  for (auto at = queue->second.upper_bound(behind); at != queue->second.end() && out.size() < most; ++at)
    out.push_back({group, at->second});
  return out;
}

void MemoryStore::delivered(const std::vector<accounting::Delivered>& records) {
  for (const accounting::Delivered& one : records) queues_[one.group].erase(one.id);
}

std::vector<std::string> MemoryStore::groups() const {
  std::vector<std::string> out;
  for (const auto& [group, queue] : queues_) out.push_back(group);
  return out;
}

std::size_t MemoryStore::waiting() const {
  std::size_t out = 0;
  for (const auto& [group, queue] : queues_) out += queue.size();
  return out;
}

Node::Node(Network& network, std::string address, std::string_view plan, const Tune& tune)
    : network_(network),
      address_(*IpAddress::parse(address)),
      random_(network.next_seed()),
      delivery_(random_, counters_) {
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
    return deliver();
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
  for (const std::string& group : store_.groups()) delivery_.more(group);
  deliver();
}

void Node::deliver() {
  const Now now = network_.now();
  for (const engine::Delivery::Wish& wish : delivery_.wishes(now.steady))
    delivery_.offer(wish, store_.undelivered(wish.group, wish.behind, wish.most));
  delivery_.send({now, actions_});
  const auto delivered = delivery_.take_delivered();
  store_.delivered(delivered);
  delivery_.taken_off(delivered);
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
  deliver();
}

std::optional<TimePoint> Node::next_deadline() {
  std::optional<TimePoint> out;
  const auto sooner = [&out](std::optional<TimePoint> other) {
    if (other && (!out || *other < *out)) out = other;
  };
  for (Worker& worker : workers_) sooner(worker.engine->next_deadline());
  for (const Result& result : results_) sooner(result.at);
  sooner(delivery_.next_deadline());
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
