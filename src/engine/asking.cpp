// A request goes to a server of a group, and what it answers comes back.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "decide/reasons.h"
#include "engine/engine.h"
#include "engine/neighbour.h"
#include "engine/onward.h"
#include "engine/resume.h"

namespace jembatan::engine {

using forward::Purpose;
using wire::AttributeType;

std::string Engine::loop_of(const Request& request) const {
  const decide::Way& way = request.course->way();
  std::size_t hops = 0;
  for (const wire::Attribute attribute : request.packet.attributes()) {
    if (attribute.type != AttributeType::proxy_state) continue;
    ++hops;
    if (!loop_mark_->is_ours(attribute.value)) continue;
    return fmt::format(
        "realm '{}' leads to group '{}' here, and from there back to this node by way of client '{}'",
        escaped(way.realm), request.live->plan->groups[way.destination.group].name, request.client.name);
  }
  if (hops < request.live->plan->realm_default.most_hops) return {};
  return fmt::format("it has passed {} proxies, and most_hops is {}", hops,
                     request.live->plan->realm_default.most_hops);
}

Result<forward::Asker> Engine::asker_of(const Request& request) const {
  const decide::Way& way = request.course->way();
  const plan::Group& group = request.live->plan->groups[way.destination.group];
  forward::Asker out = asker_in(group, *request.course, request.client.name);
  const auto state = request.course->packet().find(AttributeType::state);
  if (!state) return out;
  const auto origin = origins_->of(request.client.name, state->value, request.turn.now.steady);
  if (!origin) return out;
  const auto server = std::find_if(group.servers.begin(), group.servers.end(), [&](const plan::Server& one) {
    return forward::endpoint_of(one, Purpose::access) == *origin;
  });
  if (server == group.servers.end())
    return fail(Errc::unreachable,
                fmt::format("group {} has no server {} any more", group.name, origin->text()));
  out.began_at = static_cast<std::size_t>(server - group.servers.begin());
  const forward::ServerHealth& health =
      *request.live->health_of(way.destination.group, Purpose::access)[*out.began_at];
  if (health.down())
    return fail(Errc::unreachable, full_name(group, *server) + " is " + health.text(group, request.turn.now));
  return out;
}

TimePoint Engine::patience_of(const Request& request) {
  const plan::Group& group = request.live->plan->groups[request.course->way().destination.group];
  TimePoint out = TimePoint::max();
  for (const Duration most : {group.give_up_after, request.client.waits})
    if (most > Duration{0}) out = std::min(out, request.arrived.steady + most);
  return out;
}

// A loop is answered: whoever sent it on to us must not take us for dead.
void Engine::ask(const Request& request) {
  if (std::string way = loop_of(request); !way.empty())
    return note_and_give(request, decide::Refusal{{Outcome::loop, "forwarded in a circle", std::move(way)}});
  const auto asker = asker_of(request);
  if (!asker)
    return note_and_give(request,
                         decide::Refusal{{Outcome::rejected, decide::kLostInTheMiddle, asker.error().text}});
  const std::size_t group = request.course->way().destination.group;
  const auto ticket = wait(request, std::nullopt);  // what is asked of servers has deadlines of its own
  if (!ticket) return;
  Pending& pending = *pending_.get(*ticket);
  pending.began_elsewhere = asker->began_at.has_value();
  const auto crossing = crossings_.start(
      *ticket,
      {pending.live, group, wire::Code::access_request, pending.client, *asker, patience_of(request)},
      request.turn);
  if (crossing) {
    pending.crossing = *crossing;
  } else {
    not_asked(*ticket, crossing.error(), request.turn);
  }
}

void Engine::not_asked(Ticket ticket, const Error& error, const Turn& turn) {
  if (error.code == Errc::unreachable) return silent(ticket, error.text, turn);
  resume(ticket, turn, [&](const Request& request) {
    const Outcome outcome = error.code == Errc::busy ? Outcome::overloaded : Outcome::malformed;
    give(request, decide::Failure{{outcome, "it could not be forwarded", error.text}});
  });
}

void Engine::silent(Ticket ticket, const std::string& why, const Turn& turn) {
  const bool in_the_middle = pending_.get(ticket) != nullptr && pending_.get(ticket)->began_elsewhere;
  resume(ticket, turn, [&](const Request& request) {
    if (!in_the_middle) return note_and_give(request, decide::Silence{why});
    note_and_give(request, decide::Refusal{{Outcome::rejected, decide::kLostInTheMiddle, why}});
  });
}

void Engine::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn) {
  owner_.check();
  const auto arrived = crossings_.on_reply(lane, from, octets, turn);
  if (!arrived) return;
  resume(arrived->owner, turn, [&](const Request& request) {
    const auto& servers = request.live->plan->groups[request.course->way().destination.group].servers;
    const OctetView reply = arrived->reply.octets();
    const auto state = arrived->reply.find(AttributeType::state);
    if (state && arrived->reply.code() == wire::Code::access_challenge)
      origins_->began(request.client.name, state->value, from, turn.now.steady);
    request.given->push_back(
        {request.age(), Given::Answered{static_cast<std::uint16_t>(arrived->server - servers.data()),
                                        {reply.begin(), reply.end()},
                                        arrived->request}});
    give(request,
         decide::Answer{arrived->reply, {arrived->server->secret, arrived->request}, arrived->server});
  });
}

}  // namespace jembatan::engine
