#include "engine/delivery.h"

#include <fmt/format.h>

#include "accounting/keys.h"
#include "base/text_hash.h"
#include "decide/course.h"
#include "forward/sticky.h"

namespace jembatan::engine {

namespace {

constexpr std::size_t kMostUnderWay = 16384;
constexpr std::size_t kMostTakenUp = 4 * kMostUnderWay;
constexpr std::size_t kMostLeaving = 50000;  // of a group, acknowledged while the store cannot be written
constexpr std::size_t kLeastTakenUp = 8;
constexpr std::size_t kTakenUpFor =
    6;  // times what may be under way: the records of a session wait for each other

// The records of one session go to one server while it lives; where sign-ins stick to users or stations,
// their records do.
forward::Asker asker_of(const accounting::Record& record, const plan::Group& group) {
  const plan::Sticky sticky = group.sticky == plan::Sticky::no ? plan::Sticky::session : group.sticky;
  return {record.user.empty() ? 0 : stable_number(record.user),
          forward::tie_of(sticky, {record.user, record.calling_station, record.client, record.session_id}),
          std::nullopt};
}

}  // namespace

// More than may be under way, so that there is always something to be sent.
std::size_t Delivery::Queue::room() const {
  const std::size_t most = std::max(kLeastTakenUp, kTakenUpFor * pace.window());
  return most - std::min(most, taken_up());
}

Delivery::Delivery(Random& random, Counters& counters)
    : parcels_(kMostTakenUp), crossings_(*this, random, counters, {kMostUnderWay}) {}

std::optional<std::size_t> Delivery::place_of(const std::string& group) const {
  if (!live_) return std::nullopt;
  const auto& groups = live_->plan->groups;
  for (std::size_t i = 0; i < groups.size(); ++i) {
    if (groups[i].name == group) return i;
  }
  return std::nullopt;
}

Delivery::Queue& Delivery::queue_of(const std::string& group) {
  const auto [found, added] = queues_.try_emplace(group);
  if (added) {
    found->second.group = group;
    found->second.place = place_of(group);
  }
  return found->second;
}

// A group that the plan has lost may come back: what waits for it stays in the durable queue.
void Delivery::use(forward::LivePlanPtr live) {
  owner_.check();
  live_ = std::move(live);
  for (auto& [group, queue] : queues_) {
    queue.place = place_of(group);
    if (!queue.place) put_back(queue, 0);
  }
}

void Delivery::more(const std::string& group) {
  owner_.check();
  queue_of(group).more = true;
}

void Delivery::begin_anew(const std::string& group) {
  owner_.check();
  Queue& queue = queue_of(group);
  put_back(queue, 0);
  queue.behind = 0;
  queue.more = true;
}

// Leaves what was taken up to the durable queue again, but for the first few.
void Delivery::put_back(Queue& queue, std::size_t but) {
  while (queue.waiting.size() > but) {
    const auto last = std::prev(queue.waiting.end());
    queue.behind = last->first - 1;
    queue.more = true;
    parcels_.release(last->second);
    queue.waiting.erase(last);
  }
}

// Whoever waits for another's place, or for the store, is looked at when something has happened there.
bool Delivery::may_load(const Queue& queue) const {
  return queue.more && queue.place && queue.leaving.size() < kMostLeaving && parcels_.taken() < kMostTakenUp;
}

std::vector<Delivery::Wish> Delivery::wishes(TimePoint now) const {
  std::vector<Wish> out;
  for (const auto& [group, queue] : queues_) {
    if (!may_load(queue) || queue.pace.rests(now)) continue;
    const std::size_t room = queue.room();
    // Not one by one: each look costs.
    if (room > 0 && room * 2 >= queue.pace.window()) out.push_back({group, queue.behind, room});
  }
  return out;
}

void Delivery::offer(const Wish& wish, std::vector<accounting::Undelivered> records) {
  owner_.check();
  Queue& queue = queue_of(wish.group);
  queue.more = records.size() >= wish.most;
  for (accounting::Undelivered& item : records) {
    const std::int64_t id = item.arrival.id;
    queue.behind = std::max(queue.behind, id);
    if (queue.leaving.contains(id) || queue.waiting.contains(id) || queue.under_way.contains(id)) continue;
    const Ticket ticket = parcels_.take();
    Parcel* parcel = parcels_.get(ticket);
    if (parcel == nullptr) {  // many groups at once: later
      queue.behind = id - 1;
      queue.more = true;
      return;
    }
    *parcel = {&queue, accounting::taken_apart(std::move(item.arrival)), {}, {}, {}, 0};
    const accounting::Record& record = parcel->record;
    parcel->session = stable_number(record.client + '\0' + record.nas + '\0' + record.session_id);
    queue.waiting.emplace(id, ticket);
  }
}

void Delivery::send(const Turn& turn) {
  owner_.check();
  for (auto& [group, queue] : queues_) {
    if (queue.place && !queue.pace.rests(turn.now.steady)) send(queue, turn);
    tell_of_end(queue, turn);
  }
}

void Delivery::send(Queue& queue, const Turn& turn) {
  for (auto at = queue.waiting.begin();
       at != queue.waiting.end() && queue.under_way.size() < queue.pace.window();) {
    const auto [id, ticket] = *at;
    if (queue.sessions.contains(parcels_.get(ticket)->session)) {
      ++at;
      continue;
    }
    if (!start(queue, ticket, turn)) return;
    at = queue.waiting.erase(at);
  }
}

// False if nobody can be asked for now.
bool Delivery::start(Queue& queue, Ticket ticket, const Turn& turn) {
  Parcel& parcel = *parcels_.get(ticket);
  Result<Ticket> started = fail(Errc::malformed, "the record is not in the store any more");
  if (!parcel.record.attributes.empty()) {
    parcel.attributes = accounting::attributes_to_send(parcel.record, turn.now.wall);
    parcel.sent.reset();
    started = crossings_.start(ticket,
                               {live_, *queue.place, wire::Code::accounting_request, nullptr,
                                asker_of(parcel.record, live_->plan->groups[*queue.place])},
                               turn);
  }
  if (started) {
    queue.under_way.insert(parcel.record.id);
    queue.sessions.insert(parcel.session);
    return true;
  }
  if (started.error().code == Errc::busy || started.error().code == Errc::unreachable) {
    queue.pace.pause(turn.now.steady);
    return false;
  }
  const std::string why = started.error().text;
  turn.out.notices.push_back(
      {turn.now.wall, Weight::warning, fmt::format("accounting for group {}", queue.group),
       fmt::format("record {} cannot be sent and is set aside ({})", parcel.record.id, why)});
  set_aside_.push_back({parcel.record.id, queue.group, why});
  parcels_.release(ticket);
  return true;
}

Status Delivery::compose(Ticket owner, const plan::Server& server, const wire::Authenticator&,
                         wire::PacketBuilder& out) {
  Parcel& parcel = *parcels_.get(owner);
  const auto changed = edited(parcel, server);
  const OctetView attributes =
      changed ? OctetView(*changed).subspan(wire::kHeader) : OctetView(parcel.attributes);
  parcel.digest = accounting::digest_of(attributes);
  return out.add_encoded(attributes);
}

void Delivery::asked(Ticket owner, const Asking&, Now now) {
  Parcel& parcel = *parcels_.get(owner);
  if (!parcel.sent) parcel.sent = now.wall;
}

// As every request before it goes on; hidden values are out of reach.
std::optional<Octets> Delivery::edited(const Parcel& parcel, const plan::Server& server) const {
  const plan::Plan& plan = *live_->plan;
  const Octets whole = accounting::as_packet(parcel.attributes);
  const auto packet = wire::PacketView::parse(whole);
  if (!packet) return std::nullopt;
  plan::Client gone;  // the plan may have lost the client meanwhile
  gone.name = parcel.record.client;
  const plan::Client* client = plan.client_named(gone.name);
  const decide::Request asked{plan, *packet, client == nullptr ? gone : *client, true,
                              parcel.record.received};
  decide::HiddenValues out_of_reach;
  return decide::before_forwarding(asked, decide::find_way(asked), {parcel.queue->group, server.entry},
                                   {out_of_reach});
}

void Delivery::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn) {
  owner_.check();
  const auto arrived = crossings_.on_reply(lane, from, octets, turn);
  if (!arrived) return;
  const Parcel& parcel = *parcels_.get(arrived->owner);
  Queue& queue = *parcel.queue;
  delivered_.push_back({parcel.record.id, queue.group, arrived->server->entry, parcel.digest,
                        parcel.sent.value_or(turn.now.wall), turn.now.wall});
  queue.leaving.insert(parcel.record.id);
  queue.sessions.erase(parcel.session);
  queue.under_way.erase(parcel.record.id);
  queue.pace.answered();
  parcels_.release(arrived->owner);
  progress_.acknowledged(queue.group, turn.now);
  tell_of_answer(queue, turn);
}

void Delivery::on_timer(const Turn& turn) {
  owner_.check();
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(turn)) {
    const Parcel& parcel = *parcels_.get(given_up.owner);
    Queue& queue = *parcel.queue;
    progress_.failed(queue.group, given_up.why, turn.now);
    tell_of(queue, parcel, given_up.why, turn);
    queue.sessions.erase(parcel.session);
    queue.under_way.erase(parcel.record.id);
    queue.pace.silent(turn.now.steady);
    queue.waiting.emplace(parcel.record.id, given_up.owner);
    if (queue.under_way.empty()) put_back(queue, queue.place ? kLeastTakenUp : 0);
  }
}

std::optional<TimePoint> Delivery::next_deadline() {
  std::optional<TimePoint> out = crossings_.next_deadline();
  for (const auto& [group, queue] : queues_) {
    const bool waits = may_load(queue) || (queue.place && !queue.waiting.empty());
    if (!waits || !queue.under_way.empty()) continue;
    out = std::min(out.value_or(TimePoint::max()), queue.pace.rests_until());
  }
  return out;
}

void Delivery::taken_off(std::span<const accounting::Delivered> records) {
  owner_.check();
  for (const accounting::Delivered& one : records) queue_of(one.group).leaving.erase(one.id);
}

// One line a group and minute, however many of its records wait.
void Delivery::tell_of(Queue& queue, const Parcel& parcel, const std::string& why, const Turn& turn) {
  constexpr std::chrono::minutes kTellEvery{1};
  ++queue.silences;
  if (queue.told && turn.now.steady - *queue.told < kTellEvery) return;
  const std::string others =
      queue.silences > 1 ? fmt::format(", {} attempts since the last such line", queue.silences) : "";
  turn.out.notices.push_back(
      {turn.now.wall, Weight::warning, fmt::format("accounting for group {}", queue.group),
       fmt::format("record {} waits in the queue ({}{})", parcel.record.id, why, others)});
  queue.told = turn.now.steady;
  queue.silences = 0;
  queue.acknowledged = 0;
}

// After such a line, one when the first is acknowledged, and one when nothing waits any more.
void Delivery::tell_of_answer(Queue& queue, const Turn& turn) {
  if (queue.told && ++queue.acknowledged == 1) tell(queue, turn, "records are acknowledged again");
}

void Delivery::tell_of_end(Queue& queue, const Turn& turn) {
  if (!queue.told || queue.acknowledged == 0 || queue.more || queue.taken_up() > 0) return;
  tell(queue, turn, fmt::format("nothing waits any more; {} acknowledged since then", queue.acknowledged));
  queue.told.reset();
}

void Delivery::tell(const Queue& queue, const Turn& turn, std::string text) {
  turn.out.notices.push_back(
      {turn.now.wall, Weight::info, fmt::format("accounting for group {}", queue.group), std::move(text)});
}

}  // namespace jembatan::engine
