#include "engine/delivery.h"

#include <fmt/format.h>

#include "base/text_hash.h"
#include "decide/course.h"
#include "forward/sticky.h"

namespace jembatan::engine {

namespace {

// The records of one session go to one server while it lives; where sign-ins stick to users or stations,
// their records do.
forward::Asker asker_of(const accounting::Record& record, const plan::Group& group) {
  const plan::Sticky sticky = group.sticky == plan::Sticky::no ? plan::Sticky::session : group.sticky;
  return {record.user.empty() ? 0 : stable_number(record.user),
          forward::tie_of(sticky, {record.user, record.calling_station, record.client, record.session_id}),
          std::nullopt};
}

}  // namespace

Delivery::Delivery(Random& random, Counters& counters, std::size_t most_under_way)
    : most_(most_under_way),
      parcels_(most_under_way),
      crossings_(*this, random, counters, {most_under_way}) {}

std::optional<std::size_t> Delivery::group_named(const std::string& name) const {
  const auto& groups = live_->plan->groups;
  for (std::size_t i = 0; i < groups.size(); ++i) {
    if (groups[i].name == name) return i;
  }
  return std::nullopt;
}

void Delivery::offer(std::vector<accounting::Undelivered> records, const Turn& turn) {
  owner_.check();
  for (accounting::Undelivered& item : records) {
    if (places_.contains(item.place)) continue;
    // A group that the plan no longer has may come back with the next plan: the record stays in the queue.
    const auto group = group_named(item.group);
    if (!group) continue;
    const Ticket ticket = parcels_.take();
    Parcel* parcel = parcels_.get(ticket);
    if (parcel == nullptr) return;
    parcel->attributes = accounting::attributes_to_send(item.record, turn.now.wall);
    parcel->item = std::move(item);
    const std::int64_t place = parcel->item.place;
    const Crossings::Errand errand{live_, *group, forward::Purpose::accounting, nullptr,
                                   asker_of(parcel->item.record, live_->plan->groups[*group])};
    if (crossings_.start(ticket, errand, turn)) {
      places_.insert(place);
    } else {
      parcels_.release(ticket);
    }
  }
}

Status Delivery::compose(Ticket owner, const plan::Server& server, const wire::Authenticator&,
                         wire::PacketBuilder& out) {
  const Parcel& parcel = *parcels_.get(owner);
  const auto changed = edited(parcel, server);
  return out.add_encoded(changed ? OctetView(*changed).subspan(wire::kHeader) : OctetView(parcel.attributes));
}

// As every request before it goes on; hidden values are out of reach.
std::optional<Octets> Delivery::edited(const Parcel& parcel, const plan::Server& server) const {
  const plan::Plan& plan = *live_->plan;
  wire::PacketBuilder whole(wire::Code::accounting_request, 0, {});
  if (!whole.add_encoded(parcel.attributes)) return std::nullopt;
  const wire::PacketView packet = *wire::PacketView::parse(whole.finish());
  plan::Client gone;  // the plan may have lost the client meanwhile
  gone.name = parcel.item.record.client;
  const plan::Client* client = plan.client_named(gone.name);
  const decide::Request asked{plan, packet, client == nullptr ? gone : *client, true,
                              parcel.item.record.received};
  decide::HiddenValues out_of_reach;
  return decide::before_forwarding(asked, decide::find_way(asked), {parcel.item.group, server.entry},
                                   {out_of_reach});
}

void Delivery::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn) {
  owner_.check();
  const auto arrived = crossings_.on_reply(lane, from, octets, turn);
  if (!arrived) return;
  const accounting::Undelivered& item = parcels_.get(arrived->owner)->item;
  delivered_.push_back(item.place);
  progress_.acknowledged(item.group, turn.now);
  if (backlogs_.erase(item.group) > 0)
    turn.out.notices.push_back({turn.now.wall, Weight::info,
                                fmt::format("accounting for group {}", item.group),
                                "records are acknowledged again"});
  parcels_.release(arrived->owner);
}

void Delivery::taken_off(const std::vector<std::int64_t>& places) {
  owner_.check();
  for (const std::int64_t place : places) places_.erase(place);
}

void Delivery::on_timer(const Turn& turn) {
  owner_.check();
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(turn)) {
    const Parcel* parcel = parcels_.get(given_up.owner);
    progress_.failed(parcel->item.group, given_up.why, turn.now);
    tell_of(*parcel, given_up.why, turn);
    places_.erase(parcel->item.place);
    parcels_.release(given_up.owner);
  }
}

// One line a group and minute, however many of its records wait.
void Delivery::tell_of(const Parcel& parcel, const std::string& why, const Turn& turn) {
  constexpr std::chrono::minutes kTellEvery{1};
  Backlog& backlog = backlogs_[parcel.item.group];
  ++backlog.since_then;
  if (backlog.told != TimePoint{} && turn.now.steady - backlog.told < kTellEvery) return;
  const std::string others =
      backlog.since_then > 1 ? fmt::format(", {} attempts since the last such line", backlog.since_then) : "";
  turn.out.notices.push_back(
      {turn.now.wall, Weight::warning, fmt::format("accounting for group {}", parcel.item.group),
       fmt::format("record {} waits in the queue ({}{})", parcel.item.record.id, why, others)});
  backlog = {turn.now.steady, 0};
}

}  // namespace jembatan::engine
