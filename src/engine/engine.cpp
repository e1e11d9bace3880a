#include "engine/engine.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "engine/rehide.h"
#include "wire/authenticator.h"
#include "wire/hidden.h"

namespace jembatan::engine {
namespace {

using wire::AttributeType;
using wire::Code;
using wire::PacketView;

constexpr std::uint8_t kChapPassword = 3;    // RFC 2865 §5.3
constexpr std::uint8_t kChapChallenge = 60;  // RFC 2865 §5.40

Outcome outcome_of(Code code) {
  if (code == Code::access_accept) return Outcome::accepted;
  return code == Code::access_challenge ? Outcome::challenged : Outcome::rejected;
}

}  // namespace

Engine::Engine(Settings settings, Random& random, Counters& counters)
    : settings_(std::move(settings)),
      random_(random),
      counters_(counters),
      repeats_(settings_.most_repeats, settings_.keep_replies),
      pending_(settings_.most_pending),
      crossings_(*this, random, counters, settings_.most_pending) {}

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

void Engine::tell(const Request& request, Ending ending) {
  counters_.ended(ending.outcome);
  Event& event = request.out.events.emplace_back();
  event.at = request.now.wall;
  event.outcome = ending.outcome;
  event.code = request.packet.code();
  event.identifier = request.packet.identifier();
  event.source = request.in.from;
  event.client = request.client.name;
  event.user = text_in(request.packet.find(AttributeType::user_name));
  event.server = std::move(ending.server);
  event.because = ending.because;
  event.detail = std::move(ending.detail);
  event.took = std::chrono::duration_cast<std::chrono::microseconds>(request.now.steady - request.arrived);
}

void Engine::no_reply(const Request& request, Ending ending) {
  repeats_.forget(request.repeat);
  tell(request, std::move(ending));
}

void Engine::reply(const Request& request, Code code, OctetView attributes, Ending ending) {
  wire::PacketBuilder packet = begin_reply(request, code);
  const Status built = packet.add_encoded(attributes);
  send_reply(request, packet, built, std::move(ending));
}

wire::PacketBuilder Engine::begin_reply(const Request& request, Code code) {
  wire::PacketBuilder packet(code, request.packet.identifier(), request.packet.authenticator());
  if (code != Code::accounting_response) (void)packet.add_message_authenticator();  // first: RFC 3579 §3.2
  return packet;
}

void Engine::send_reply(const Request& request, wire::PacketBuilder& packet, Status built, Ending ending) {
  for (const wire::Attribute attribute : request.packet.attributes()) {
    if (!built || attribute.type != AttributeType::proxy_state) continue;
    built = packet.add(attribute.type, attribute.value);  // RFC 2865 §5.33: all, in their order
  }
  if (!built) {
    return no_reply(request,
                    {Outcome::overloaded, "the reply does not fit into a packet", built.error().text});
  }
  const OctetSpan octets = packet.finish();
  wire::sign_response(octets, request.packet.authenticator(), request.secret());
  if (!repeats_.answer(request.repeat, octets, request.now.steady)) {
    return tell(request,
                {Outcome::superseded, "the client sent another request with this Identifier meanwhile"});
  }
  request.out.replies.push_back(
      {request.in.listener, request.in.from, request.in.to, request.out.keep(octets)});
  tell(request, std::move(ending));
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
  pending->arrived = request.arrived;
  pending->live = request.live;
  pending->client = &request.client;
  pending->which_secret = request.which_secret;
  pending->repeat = request.repeat;
  pending->user = nullptr;
  pending->user_name.clear();
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
  step(Request{*packet, in, pending.live, *pending.client, pending.which_secret, pending.repeat,
               pending.arrived, now, out},
       pending);
  found->live.reset();
  pending_.release(ticket);
}

void Engine::on_proved(Ticket ticket, bool matches, Now now, Actions& out) {
  finish(ticket, now, out, [&](const Request& request, const Pending& pending) {
    const auto hidden = request.packet.find(AttributeType::user_password);
    auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
    trail_.clear();
    const decide::Way way = decide::find_way(*request.live->plan, asked_of(request), trail_);
    proved(request, way, *pending.user, matches, *typed);
    wipe(*typed);
  });
}

void Engine::on_overload(Ticket ticket, std::string_view because, Now now, Actions& out) {
  finish(ticket, now, out, [&](const Request& request, const Pending&) {
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
    reply(request, Code::accounting_response, {},
          {Outcome::accounted, kept->duplicate ? "a resend: this record is kept already" : "record kept",
           accounting::name_of(status)});
  });
}

Status Engine::compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                       wire::PacketBuilder& out) {
  const Pending& pending = *pending_.get(owner);
  const Result<PacketView> packet = PacketView::parse(pending.octets);
  const HiddenWith from{pending.client->secret_of(pending.which_secret), packet->authenticator()};
  const HiddenWith to{server.secret, authenticator};
  bool chap = false;
  bool challenge = false;
  for (const wire::Attribute attribute : packet->attributes()) {
    Status added;
    chap = chap || static_cast<std::uint8_t>(attribute.type) == kChapPassword;
    challenge = challenge || static_cast<std::uint8_t>(attribute.type) == kChapChallenge;
    if (attribute.type == AttributeType::message_authenticator) continue;
    if (attribute.type == AttributeType::user_name && !pending.user_name.empty()) {
      added = out.add(attribute.type, std::string_view(pending.user_name));
    } else {
      added = copy_attribute(*pending.live->plan->catalogue, *packet, attribute, from, to, out);
    }
    if (!added) return added;
  }
  if (chap && !challenge) {  // the challenge was the Request Authenticator, which changes (RFC 2865 §5.40)
    const Status added =
        out.add(static_cast<AttributeType>(kChapChallenge), OctetView(packet->authenticator()));
    if (!added) return added;
  }
  std::uint8_t state[8];  // ours, behind all others (RFC 2865 §5.33)
  store32(state, owner.index);
  store32(state + 4, owner.generation);
  return out.add(AttributeType::proxy_state, OctetView(state));
}

void Engine::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, Now now, Actions& out) {
  const auto arrived = crossings_.on_reply(lane, from, octets, now, out);
  if (!arrived) return;
  finish(arrived->owner, now, out, [&](const Request& request, const Pending&) {
    const Code code = arrived->reply.code();
    const HiddenWith theirs{arrived->server->secret, arrived->request};
    const HiddenWith ours{request.secret(), request.packet.authenticator()};
    wire::PacketBuilder packet = begin_reply(request, code);
    Status built;
    for (const wire::Attribute attribute : arrived->reply.attributes()) {
      // Both belong to one hop; the client's own Proxy-State attributes come back with the reply.
      const bool of_the_hop = attribute.type == AttributeType::message_authenticator ||
                              attribute.type == AttributeType::proxy_state;
      if (!built || of_the_hop) continue;
      built = copy_attribute(*request.live->plan->catalogue, arrived->reply, attribute, theirs, ours, packet);
    }
    send_reply(request, packet, built, {outcome_of(code), "the server's answer", "", arrived->server_name});
  });
}

void Engine::on_timer(Now now, Actions& out) {
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(now, out)) {
    finish(given_up.owner, now, out, [&](const Request& request, const Pending& pending) {
      if (request.live->plan->groups[pending.group].when_silent == plan::WhenSilent::refuse) {
        return reply(request, Code::access_reject, {},
                     {Outcome::rejected, "no server answered", given_up.why});
      }
      no_reply(request, {Outcome::no_answer, "no server answered", given_up.why});
    });
  }
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
