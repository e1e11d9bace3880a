#include "engine/delivery.h"

#include <fmt/format.h>

namespace jembatan::engine {

Delivery::Delivery(Random& random, Counters& counters, std::size_t most_under_way)
    : most_(most_under_way), parcels_(most_under_way), crossings_(*this, random, counters, most_under_way) {}

std::optional<std::size_t> Delivery::group_named(const std::string& name) const {
  const auto& groups = live_->plan->groups;
  for (std::size_t i = 0; i < groups.size(); ++i) {
    if (groups[i].name == name) return i;
  }
  return std::nullopt;
}

void Delivery::offer(std::vector<accounting::Undelivered> records, Now now, Actions& out) {
  for (accounting::Undelivered& item : records) {
    if (places_.contains(item.place)) continue;
    // A group that the plan no longer has may come back with the next plan: the record stays in the queue.
    const auto group = group_named(item.group);
    if (!group) continue;
    const Ticket ticket = parcels_.take();
    Parcel* parcel = parcels_.get(ticket);
    if (parcel == nullptr) return;
    parcel->attributes = accounting::attributes_to_send(item.record, now.wall);
    parcel->item = std::move(item);
    const std::int64_t place = parcel->item.place;
    if (crossings_.start(ticket, live_, *group, forward::Purpose::accounting, now, out)) {
      places_.insert(place);
    } else {
      parcels_.release(ticket);
    }
  }
}

Status Delivery::compose(Ticket owner, const plan::Server&, const wire::Authenticator&,
                         wire::PacketBuilder& out) {
  return out.add_encoded(parcels_.get(owner)->attributes);
}

void Delivery::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, Now now, Actions& out) {
  const auto arrived = crossings_.on_reply(lane, from, octets, now, out);
  if (!arrived) return;
  const accounting::Undelivered& item = parcels_.get(arrived->owner)->item;
  delivered_.push_back(item.place);
  parcels_.release(arrived->owner);
}

void Delivery::taken_off(const std::vector<std::int64_t>& places) {
  for (const std::int64_t place : places) places_.erase(place);
}

void Delivery::on_timer(Now now, Actions& out) {
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(now, out)) {
    const Parcel* parcel = parcels_.get(given_up.owner);
    out.notices.push_back(
        {now.wall, Weight::warning, fmt::format("accounting for group {}", parcel->item.group),
         fmt::format("record {} waits in the queue ({})", parcel->item.record.id, given_up.why)});
    places_.erase(parcel->item.place);
    parcels_.release(given_up.owner);
  }
}

}  // namespace jembatan::engine
