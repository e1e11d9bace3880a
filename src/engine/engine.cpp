#include "engine/engine.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "decide/packet_edit.h"
#include "engine/reasons.h"
#include "engine/rehide.h"
#include "wire/authenticator.h"
#include "wire/eap.h"
#include "wire/hidden.h"

namespace jembatan::engine {
namespace {

using wire::AttributeType;
using wire::Code;
using wire::PacketView;

Outcome outcome_of(Code code) {
  if (code == Code::access_accept) return Outcome::accepted;
  return code == Code::access_challenge ? Outcome::challenged : Outcome::rejected;
}

std::chrono::microseconds since(const Now& arrived, const Now& now) {
  return std::chrono::duration_cast<std::chrono::microseconds>(now.steady - arrived.steady);
}

}  // namespace

Engine::Engine(Settings settings, Random& random, Counters& counters)
    : settings_(std::move(settings)),
      random_(random),
      counters_(counters),
      repeats_(settings_.most_repeats, settings_.keep_replies),
      pending_(settings_.most_pending),
      crossings_(*this, random, counters,
                 {settings_.most_pending - settings_.most_pending / 4, settings_.group_percent}),
      slowdown_(settings_.slowdown),
      loop_mark_(settings_.loop_mark) {
  std::uint8_t seed[24];
  random_.fill(seed);
  if (!slowdown_) slowdown_ = std::make_shared<Slowdown>(load64(seed));
  if (!loop_mark_) loop_mark_ = std::make_shared<const LoopMark>(Secret(text_of(OctetView(seed).subspan(8))));
}

void Engine::drop(const Datagram& in, const plan::Client* client, Ending ending, Now now, Actions& out) {
  counters_.ended(ending.outcome);
  Event event;
  event.at = now.wall;
  event.outcome = ending.outcome;
  if (in.octets.size() >= 2) {
    event.code = static_cast<Code>(in.octets[0]);
    event.identifier = in.octets[1];
  }
  event.source = in.from;
  if (client != nullptr) event.client = client->name;
  event.because = ending.because;
  event.detail = std::move(ending.detail);
  out.events.push_back(std::move(event));
}

StoryPtr Engine::story_of(const Request& request, const Ending& ending, OctetView reply) {
  auto out = std::make_shared<Story>();
  out->live = request.live;
  out->client = &request.client;
  const OctetView received = request.received.octets();
  out->request.assign(received.begin(), received.end());
  out->reply.assign(reply.begin(), reply.end());
  out->arrived = request.arrived.wall;
  out->which_secret = request.which_secret;
  out->assume = ending.assume;
  out->group = request.way->destination.group;
  if (request.marks != nullptr) out->marks = *request.marks;
  if (request.notes != nullptr) out->notes = *request.notes;
  return out;
}

void Engine::tell(const Request& request, Ending ending, OctetView reply) {
  counters_.ended(ending.outcome);
  Event& event = request.out.events.emplace_back();
  event.at = request.now.wall;
  event.outcome = ending.outcome;
  event.code = request.packet.code();
  event.identifier = request.packet.identifier();
  event.source = request.in.from;
  event.client = request.client.name;
  event.user = text_in(request.packet.find(AttributeType::user_name));
  if (request.way != nullptr) {
    event.realm = request.way->realm;
    event.story = story_of(request, ending, reply);
  }
  event.server = std::move(ending.server);
  event.because = ending.because;
  event.detail = std::move(ending.detail);
  event.took = request.age();
}

void Engine::no_reply(const Request& request, Ending ending) {
  repeats_.forget(request.repeat);
  tell(request, std::move(ending));
}

std::optional<Octets> Engine::edited(const decide::Request& asked, const decide::Way* way,
                                     const Edited& what) {
  const plan::Plan& plan = asked.plan;
  if (!plan.has_edits[static_cast<std::size_t>(what.point)]) return std::nullopt;
  const decide::Way found = way == nullptr ? decide::identify(asked) : decide::Way{};
  if (way == nullptr) way = &found;
  condition::Facts facts = decide::facts_of(asked, *way, plan.user_named(way->full_name));
  facts.packet = &what.packet;
  facts.code = wire::known_name_of(what.packet.code());
  if (way->destination.handling == plan::Handling::forward)
    facts.group = plan.groups[way->destination.group].name;
  if (what.server != nullptr) facts.server = what.server->name;
  return decide::apply_edits(plan, what.point, facts, hidden_values(what.with, random_), what.notes);
}

void Engine::reply(const Request& request, Code code, OctetView attributes, Ending ending) {
  wire::PacketBuilder packet(code, request.packet.identifier(), request.packet.authenticator());
  if (code != Code::accounting_response) (void)packet.add_message_authenticator();  // first: RFC 3579 §3.2
  Status built = packet.add_encoded(attributes);
  if (built && code == Code::access_reject && !wire::has_attribute(attributes, AttributeType::eap_message))
    built = packet.add_encoded(wire::eap_failure(request.packet));
  const HiddenWith with{request.secret(), request.packet.authenticator()};
  std::optional<Octets> changed;
  if (built && request.live->plan->has_edits[static_cast<std::size_t>(plan::EditPoint::replying)]) {
    const PacketView plain = *PacketView::parse(packet.finish());
    changed = edited(request.asked(), request.way,
                     {plan::EditPoint::replying, plain, with, nullptr, request.notes});
  }
  if (changed) {
    packet = wire::PacketBuilder(code, request.packet.identifier(), request.packet.authenticator());
    built = packet.add_encoded(OctetView(*changed).subspan(wire::kHeader));
  }
  for (const wire::Attribute attribute : request.received.attributes()) {
    if (!built || attribute.type != AttributeType::proxy_state) continue;
    built = packet.add(attribute.type, attribute.value);  // RFC 2865 §5.33: all, in their order
  }
  if (!built) {
    return no_reply(request,
                    {Outcome::reply_too_long, "the reply does not fit into a packet", built.error().text});
  }
  const OctetSpan octets = packet.finish();
  wire::sign_response(octets, request.packet.authenticator(), request.secret());
  if (!repeats_.answer(request.repeat, octets, request.now.steady)) {
    return tell(request,
                {Outcome::superseded, "the client sent another request with this Identifier meanwhile"});
  }
  request.out.replies.push_back(
      {request.in.listener, request.in.from, request.in.to, request.out.keep(octets)});
  if (code == Code::access_reject) show_rejected(request);
  tell(request, std::move(ending), octets);
}

// To somebody who is allowed to see the rejected passwords of this user now.
void Engine::show_rejected(const Request& request) const {
  if (settings_.watch == nullptr || request.way == nullptr ||
      !settings_.watch->wants(request.way->full_name, request.now.wall))
    return;
  const auto hidden = request.packet.find(AttributeType::user_password);
  if (!hidden) return;
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed) return;
  settings_.watch->rejected(request.way->full_name, request.client.name, request.now.wall,
                            Secret(text_of(*typed)));
  wipe(*typed);
}

Ticket Engine::keep(const Request& request) {
  const Ticket ticket = pending_.take();
  Pending* pending = pending_.get(ticket);
  if (pending == nullptr) {
    no_reply(request, {Outcome::overloaded, "too many requests are being worked on"});
    return ticket;
  }
  pending->octets.assign(request.packet.octets().begin(), request.packet.octets().end());
  pending->listener = request.in.listener;
  pending->from = request.in.from;
  pending->to = request.in.to;
  const OctetView received = request.received.octets();
  const bool same = received.data() == request.packet.octets().data();
  pending->received.assign(received.begin(), same ? received.begin() : received.end());
  pending->arrived = request.arrived;
  pending->live = request.live;
  pending->client = &request.client;
  pending->which_secret = request.which_secret;
  pending->repeat = request.repeat;
  pending->user = nullptr;
  pending->way = *request.way;
  pending->marks.clear();
  pending->notes.clear();
  pending->crossing = {};
  if (under_way_.size() >= 2 * pending_.taken() + 64) {
    std::erase_if(under_way_, [this](Ticket t) { return pending_.get(t) == nullptr; });
  }
  under_way_.push_back(ticket);
  return ticket;
}

template <class Step>
void Engine::finish(Ticket ticket, Now now, Actions& out, Step step) {
  Pending* found = pending_.get(ticket);
  if (found == nullptr) return;
  const Pending& pending = *found;
  const Result<PacketView> packet = PacketView::parse(pending.octets);
  const Datagram in{pending.listener, pending.from, pending.to, pending.octets};
  const bool forwards = pending.way.destination.handling == plan::Handling::forward;
  step(Request{*packet, in, pending.live, *pending.client, pending.which_secret, pending.repeat,
               pending.arrived, now, out,
               pending.received.empty() ? *packet : *PacketView::parse(pending.received), &pending.way,
               &pending.marks, forwards ? &found->notes : nullptr},
       pending);
  found->live.reset();
  pending_.release(ticket);
}

void Engine::on_proved(Ticket ticket, bool matches, Now now, Actions& out) {
  if (Pending* pending = pending_.get(ticket))
    pending->marks.push_back({Mark::What::compared, 0, since(pending->arrived, now)});
  finish(ticket, now, out, [&](const Request& request, const Pending& pending) {
    const auto hidden = request.packet.find(AttributeType::user_password);
    auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
    proved(request, pending.user, matches && pending.user != nullptr, *typed);
    wipe(*typed);
  });
}

void Engine::on_overload(Ticket ticket, std::string_view because, Now now, Actions& out) {
  finish(ticket, now, out, [&](const Request& request, const Pending& pending) {
    if (request.packet.code() == Code::access_request) slowdown_->end(attempt_of(request, pending.user));
    no_reply(request, {Outcome::overloaded, because});
  });
}

void Engine::on_recorded(Ticket ticket, const Result<accounting::Kept>& kept, Now now, Actions& out) {
  finish(ticket, now, out, [&](const Request& request, const Pending&) {
    if (!kept) {
      return no_reply(request,
                      {Outcome::not_recorded, "the store refused the record; the client will try again",
                       kept.error().text});
    }
    const auto status = static_cast<accounting::StatusType>(
        number_in(request.packet.find(AttributeType::acct_status_type)).value_or(0));
    Ending ending{Outcome::accounted, "a resend: this record is kept already", accounting::name_of(status)};
    if (!kept->duplicate) {
      ending.because = "record taken";
      ending.detail += "; " + decide::accounting_text(*request.live->plan, request.way->accounting);
    }
    reply(request, Code::accounting_response, {}, std::move(ending));
  });
}

// The request as it goes to a server, if that differs: with the name that the plan made, after its edits.
std::optional<Octets> Engine::outgoing(const Pending& pending, const PacketView& packet,
                                       const plan::Server& server) {
  const plan::Plan& plan = *pending.live->plan;
  const decide::Way& way = pending.way;
  auto renamed = decide::with_user_name(packet, way.name_to_send, *plan.catalogue);
  const PacketView named = renamed ? *PacketView::parse(*renamed) : packet;
  const HiddenWith with{pending.client->secret_of(pending.which_secret), packet.authenticator()};
  const decide::Request asked{plan, named, *pending.client, false, pending.arrived.wall};
  auto changed = edited(asked, &way, {plan::EditPoint::forwarding, named, with, &server});
  return changed ? std::move(changed) : std::move(renamed);
}

void Engine::asked(Ticket owner, std::size_t server, bool again, Now now) {
  Pending& pending = *pending_.get(owner);
  pending.marks.push_back({again ? Mark::What::asked_again : Mark::What::asked,
                           static_cast<std::uint16_t>(server), since(pending.arrived, now)});
}

Status Engine::compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                       wire::PacketBuilder& out) {
  const Pending& pending = *pending_.get(owner);
  const PacketView kept = *PacketView::parse(pending.octets);
  const auto changed = outgoing(pending, kept, server);
  const PacketView packet = changed ? *PacketView::parse(*changed) : kept;
  const HiddenWith from{pending.client->secret_of(pending.which_secret), packet.authenticator()};
  const HiddenWith to{server.secret, authenticator};
  bool chap = false;
  bool challenge = false;
  for (const wire::Attribute attribute : packet.attributes()) {
    chap = chap || attribute.type == AttributeType::chap_password;
    challenge = challenge || attribute.type == AttributeType::chap_challenge;
    if (attribute.type == AttributeType::message_authenticator) continue;
    const Status added = copy_attribute(*pending.live->plan->catalogue, packet, attribute, from, to, out);
    if (!added) return added;
  }
  if (chap && !challenge) {  // the challenge was the Request Authenticator, which changes (RFC 2865 §5.40)
    const Status added = out.add(AttributeType::chap_challenge, OctetView(packet.authenticator()));
    if (!added) return added;
  }
  return out.add(AttributeType::proxy_state, loop_mark_->make(owner));  // behind all others (RFC 2865 §5.33)
}

void Engine::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, Now now, Actions& out) {
  const auto arrived = crossings_.on_reply(lane, from, octets, now, out);
  if (!arrived) return;
  if (Pending* pending = pending_.get(arrived->owner)) {
    const auto server = static_cast<std::uint16_t>(
        arrived->server - pending->live->plan->groups[pending->way.destination.group].servers.data());
    pending->marks.push_back({Mark::What::answered, server, since(pending->arrived, now)});
  }
  finish(arrived->owner, now, out, [&](const Request& request, const Pending&) {
    const HiddenWith theirs{arrived->server->secret, arrived->request};
    const HiddenWith ours{request.secret(), request.packet.authenticator()};
    const auto changed =
        edited(request.asked(), request.way,
               {plan::EditPoint::answered, arrived->reply, theirs, arrived->server, request.notes});
    const PacketView answer = changed ? *PacketView::parse(*changed) : arrived->reply;
    const Code code = answer.code();
    wire::PacketBuilder packet(code, answer.identifier(), answer.authenticator());
    Status built;
    for (const wire::Attribute attribute : answer.attributes()) {
      // Both belong to one hop; the client's own Proxy-State attributes come back with the reply.
      const bool of_the_hop = attribute.type == AttributeType::message_authenticator ||
                              attribute.type == AttributeType::proxy_state;
      if (!built || of_the_hop) continue;
      built = copy_attribute(*request.live->plan->catalogue, answer, attribute, theirs, ours, packet);
    }
    if (!built)
      return no_reply(request,
                      {Outcome::reply_too_long, "the reply does not fit into a packet", built.error().text});
    const bool unreadable = code == Code::access_reject && unreadable_here(request);
    reply(
        request, code, OctetView(packet.finish()).subspan(wire::kHeader),
        {outcome_of(code), unreadable ? kSentOnUnreadable : "the server's answer", "", arrived->server_name});
  });
}

void Engine::on_timer(Now now, Actions& out) {
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(now, out)) {
    finish(given_up.owner, now, out,
           [&](const Request& request, const Pending&) { silent(request, given_up.why); });
  }
}

void Engine::silent(const Request& request, const std::string& why) {
  const plan::Group& group = request.live->plan->groups[request.way->destination.group];
  Ending ending{Outcome::no_answer, kNoAnswer, why};
  if (group.when_silent == plan::WhenSilent::ignore) return no_reply(request, std::move(ending));
  ending.outcome = Outcome::rejected;
  reply(request, Code::access_reject, {}, std::move(ending));
}

void Engine::stop(Now now, Actions& out) {
  for (const Ticket ticket : under_way_) {
    finish(ticket, now, out, [&](const Request& request, const Pending& pending) {
      crossings_.forget(pending.crossing);
      no_reply(request, {Outcome::stopped, "the server stopped before there was an answer"});
    });
  }
  under_way_.clear();
}

}  // namespace jembatan::engine
