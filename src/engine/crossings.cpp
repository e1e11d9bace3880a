#include "engine/crossings.h"

#include <fmt/format.h>

#include <algorithm>

#include "engine/neighbour.h"
#include "wire/authenticator.h"
#include "wire/packet_digest.h"

namespace jembatan::engine {
using forward::Forwarding;
using forward::Purpose;
using forward::ServerHealth;
using wire::Code;
using wire::PacketView;

void Composer::asked(Ticket, const Asking&, Now) {}

Crossings::Crossings(Composer& composer, Random& random, Counters& counters, Room room)
    : composer_(composer), room_(room), random_(random), counters_(counters), slots_(room.most) {}

Status Crossings::has_room(const Errand& errand, std::size_t waiting) const {
  const auto fills = [&](std::size_t count, unsigned percent) { return count * 100 >= room_.most * percent; };
  if (fills(waiting, room_.group_percent))
    return fail(Errc::busy,
                fmt::format("{} requests wait for group {}, {} % of all that may wait (group_share)", waiting,
                            errand.asked_group().name, room_.group_percent));
  const forward::ClientActivity* client = errand.activity();
  if (client == nullptr || !fills(client->waiting(), room_.client_percent)) return {};
  return fail(
      Errc::busy,
      fmt::format("{} requests of client {} wait for servers, {} % of all that may wait (client_share)",
                  client->waiting(), errand.on_behalf_of->name, room_.client_percent));
}

Result<Ticket> Crossings::start(Ticket owner, Errand errand, const Turn& turn) {
  owner_.check();
  const plan::Group& asked_group = errand.asked_group();
  const auto& health = errand.health();
  const auto counted = by_group_.find(asked_group.name);
  const std::size_t waiting = counted == by_group_.end() ? 0 : counted->second;
  const bool down = std::all_of(health.begin(), health.end(), [](const auto& one) { return one->down(); });
  if (down && waiting >= kTrials)
    return fail(Errc::unreachable, forward::silence_text(asked_group, health, turn.now));
  if (const Status room = has_room(errand, waiting); !room) return room.error();
  const Ticket ticket = slots_.take();
  Crossing* crossing = slots_.get(ticket);
  if (crossing == nullptr) return fail(Errc::busy, "too many requests wait for servers");
  if (forward::ClientActivity* client = errand.activity()) client->begins_to_wait();
  crossing->counted = by_group_.try_emplace(asked_group.name).first;
  ++crossing->counted->second;
  crossing->owner = owner;
  crossing->errand = std::move(errand);
  crossing->exchanges.clear();
  const Errand& taken = crossing->errand;
  const auto step = crossing->way.start(taken.candidates(), taken.asker, taken.until, moment(turn));
  const Status asked = ask_first_that_can(step, ticket, *crossing, turn);
  if (asked) return ticket;
  end(ticket);
  return asked.error();
}

Forwarding::Moment Crossings::moment(const Turn& turn) {
  std::uint8_t chance[8];
  random_.fill(chance);
  return {turn.now.steady, static_cast<std::uint32_t>(load64(chance))};
}

// A server towards which all Identifiers are in use is passed over.
Status Crossings::ask_first_that_can(Forwarding::Step step, Ticket ticket, Crossing& crossing,
                                     const Turn& turn) {
  const plan::Group& group = crossing.group();
  while (step == Forwarding::Step::ask) {
    const Status asked = ask_server(ticket, crossing, turn);
    if (asked || asked.error().code != Errc::busy) return asked;
    step = crossing.way.skip(crossing.errand.candidates(), moment(turn));
    if (step != Forwarding::Step::ask) return asked;
  }
  std::string why = forward::silence_text(group, crossing.health(), turn.now);
  if (crossing.way.cut_short()) why += "; the time that it may take is over";
  return fail(Errc::unreachable, std::move(why));
}

Status Crossings::ask_server(Ticket ticket, Crossing& crossing, const Turn& turn) {
  const std::size_t place = crossing.way.server();
  const plan::Server& server = crossing.server(place);
  Endpoint at = forward::endpoint_of(server, crossing.errand.purpose());
  if (crossing.errand.at) at.address = *crossing.errand.at;
  const auto id = identifiers_.take(at, ticket.index);
  if (!id) return fail(Errc::busy, fmt::format("all Identifiers towards server {} are in use", server.name));
  crossing.exchanges.push_back({place, at, *id, {}, turn.now.steady});
  crossing.health()[place]->begins();
  Crossing::Exchange& exchange = crossing.exchanges.back();
  const Code code = crossing.errand.code;
  const bool digested = wire::is_digested(code);
  if (!digested) random_.fill(exchange.authenticator);
  wire::PacketBuilder packet(code, id->identifier, exchange.authenticator);
  if (code != Code::accounting_request) {
    if (Status added = packet.add_message_authenticator(); !added) return added;
  }
  if (Status composed = composer_.compose(crossing.owner, server, exchange.authenticator, packet); !composed)
    return composed;
  const OctetSpan octets = packet.finish();
  if (!digested) {
    wire::sign_request(octets, server.secret);
  } else {
    wire::sign_digested_request(octets, server.secret);
    exchange.authenticator = PacketView::parse(octets)->authenticator();
  }
  crossing.packet.assign(octets.begin(), octets.end());
  send(ticket, crossing, turn.out);
  const Errand& errand = crossing.errand;
  if (crossing.exchanges.size() == 1) ++errand.live->chosen_count(errand.group, errand.purpose(), place);
  composer_.asked(crossing.owner, {place, false, wire::leg_of(*PacketView::parse(crossing.packet))},
                  turn.now);
  return {};
}

void Crossings::send(Ticket ticket, Crossing& crossing, Actions& out) {
  crossing.health()[crossing.way.server()]->count_asked();
  const Crossing::Exchange& exchange = crossing.exchanges.back();
  out.asks.push_back({exchange.id.lane, exchange.at, out.keep(crossing.packet),
                      crossing.server(crossing.way.server()).source});
  timers_.push({crossing.way.deadline(), ticket});
}

void Crossings::end(Ticket ticket) {
  Crossing* crossing = slots_.get(ticket);
  if (crossing == nullptr) return;
  for (const Crossing::Exchange& exchange : crossing->exchanges) {
    crossing->health()[exchange.server]->ends();
    identifiers_.release(exchange.at, exchange.id);
  }
  crossing->exchanges.clear();
  if (--crossing->counted->second == 0) by_group_.erase(crossing->counted);
  if (forward::ClientActivity* client = crossing->errand.activity()) client->waits_no_more();
  crossing->errand.live.reset();
  slots_.release(ticket);
}

void Crossings::forget(Ticket crossing) {
  owner_.check();
  end(crossing);
}

// Its Identifiers are free from now on; what was asked is remembered for a while.
void Crossings::give_up(Ticket ticket, Crossing& crossing) {
  for (const Crossing::Exchange& exchange : crossing.exchanges) {
    const plan::Server& server = crossing.server(exchange.server);
    gone_.push_back({exchange, crossing.health()[exchange.server], server,
                     full_name(crossing.group(), server), crossing.errand.code});
  }
  while (gone_.size() > kMostGone) gone_.pop_front();
  end(ticket);
}

bool Crossings::came_too_late(std::uint16_t lane, const Endpoint& from, const PacketView& reply,
                              const Turn& turn) {
  const auto found = std::find_if(gone_.rbegin(), gone_.rend(), [&](const Gone& one) {
    return one.exchange.at == from && one.exchange.id.lane == lane &&
           one.exchange.id.identifier == reply.identifier();
  });
  if (found == gone_.rend() || !answers(reply.code(), found->asked) ||
      !not_genuine(reply, found->exchange.authenticator, found->server, found->asked).empty())
    return false;
  if (found->health->answered(turn.now) == ServerHealth::Change::came_back)
    turn.out.notices.push_back(
        up_again({found->name, found->server, forward::purpose_of(found->asked)}, turn.now));
  gone_.erase(std::next(found).base());
  return true;
}

void Crossings::drop_reply(const Endpoint& from, decide::Ending ending, const Turn& turn) {
  counters_.ended(ending.outcome);
  Event event;
  event.at = turn.now.wall;
  event.outcome = ending.outcome;
  event.source = from;
  event.because = ending.because;
  event.detail = std::move(ending.detail);
  event.server = std::move(ending.server);
  turn.out.events.push_back(std::move(event));
}

std::optional<Crossings::Arrived> Crossings::on_reply(std::uint16_t lane, const Endpoint& from,
                                                      OctetView octets, const Turn& turn) {
  owner_.check();
  counters_.received();
  const auto reply = PacketView::parse(octets);
  if (!reply) {
    drop_reply(from, {Outcome::reply_malformed, "not a well-formed packet", reply.error().text}, turn);
    return std::nullopt;
  }
  const auto owner = identifiers_.owner_of(from, {lane, octets[1]});
  if (!owner) {
    const bool late = came_too_late(lane, from, *reply, turn);
    drop_reply(
        from,
        {Outcome::reply_unexpected, late ? "it came when the request had been given up; the server is alive"
                                         : "no request waits for it: it came too late, or twice"},
        turn);
    return std::nullopt;
  }
  const Ticket ticket = slots_.ticket_at(*owner);
  Crossing& crossing = *slots_.get(ticket);
  const auto exchange =
      std::find_if(crossing.exchanges.begin(), crossing.exchanges.end(), [&](const Crossing::Exchange& one) {
        return one.at == from && one.id.lane == lane && one.id.identifier == octets[1];
      });
  const plan::Server& server = crossing.server(exchange->server);
  const std::string name = full_name(crossing.group(), server);
  if (!answers(reply->code(), crossing.errand.code)) {
    drop_reply(from,
               {Outcome::reply_malformed, "a packet that answers no such request",
                wire::name_of(reply->code()), decide::Ending::About::text, name},
               turn);
    return std::nullopt;
  }
  const std::string_view problem = not_genuine(*reply, exchange->authenticator, server, crossing.errand.code);
  if (!problem.empty()) {
    drop_reply(from, {Outcome::reply_not_genuine, problem, "", decide::Ending::About::text, name}, turn);
    return std::nullopt;
  }
  counters_.ended(Outcome::reply_used);
  const auto took = std::chrono::duration_cast<std::chrono::microseconds>(turn.now.steady - exchange->asked);
  if (crossing.health()[exchange->server]->answered(turn.now, took) == ServerHealth::Change::came_back)
    turn.out.notices.push_back(up_again({name, server, crossing.errand.purpose()}, turn.now));
  Arrived arrived{crossing.owner, crossing.errand.live, &server, name, exchange->authenticator, *reply};
  end(ticket);
  return arrived;
}

void Crossings::went_unanswered(const Crossing& crossing, const Turn& turn) {
  const plan::Group& group = crossing.group();
  const std::size_t silent = crossing.way.server();
  ServerHealth& health = *crossing.health()[silent];
  turn.out.doubts = turn.out.doubts || health.probed(group);
  if (health.unanswered(group, crossing.errand.asker.path, turn.now) == ServerHealth::Change::went_down)
    turn.out.notices.push_back(
        gone_down({full_name(group, group.servers[silent]), group.servers[silent], crossing.errand.purpose()},
                  group, health.probed(group), turn.now));
}

std::vector<Crossings::GivenUp> Crossings::on_timer(const Turn& turn) {
  owner_.check();
  std::vector<GivenUp> given_up;
  while (!timers_.empty() && timers_.top().at <= turn.now.steady) {
    const Timer timer = timers_.top();
    timers_.pop();
    Crossing* crossing = slots_.get(timer.crossing);
    if (crossing == nullptr || crossing->way.deadline() != timer.at) continue;
    if (!crossing->way.cut_short()) went_unanswered(*crossing, turn);
    const auto step = crossing->way.on_silence(crossing->errand.candidates(), moment(turn));
    Status asked;
    if (step == Forwarding::Step::ask_again) {
      send(timer.crossing, *crossing, turn.out);
      composer_.asked(crossing->owner,
                      {crossing->way.server(), true, wire::leg_of(*PacketView::parse(crossing->packet))},
                      turn.now);
    } else {
      asked = ask_first_that_can(step, timer.crossing, *crossing, turn);
    }
    if (asked) continue;
    given_up.push_back({crossing->owner, asked.error().text});
    give_up(timer.crossing, *crossing);
  }
  return given_up;
}

std::optional<TimePoint> Crossings::next_deadline() {
  owner_.check();
  while (!timers_.empty()) {
    Crossing* crossing = slots_.get(timers_.top().crossing);
    if (crossing != nullptr && crossing->way.deadline() == timers_.top().at) return timers_.top().at;
    timers_.pop();
  }
  return std::nullopt;
}

}  // namespace jembatan::engine
