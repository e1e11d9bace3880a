// The life of a request, as named steps from top to bottom.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "decide/compose.h"
#include "engine/engine.h"
#include "engine/methods.h"
#include "identity/shape.h"
#include "wire/authenticator.h"
#include "wire/hidden.h"

namespace jembatan::engine {

using forward::Purpose;
using wire::AttributeType;
using wire::Code;
using wire::PacketView;
using wire::Signature;

void Engine::handle(const Datagram& in, Now now, Actions& out) {
  counters_.received();
  const forward::LivePlanPtr& live = live_;  // one plan for the whole request
  const plan::Client* client = live->plan->client_at(in.from.address);
  if (client == nullptr)
    return drop(in, nullptr, {Outcome::unknown_client, "nobody entered this address"}, now, out);
  if (!client->enabled)
    return drop(in, client, {Outcome::client_off, "the client is switched off"}, now, out);
  if (!may_use(*client, in.listener))
    return drop(in, client, {Outcome::wrong_listener, "the client may not use this listener"}, now, out);
  const Result<PacketView> packet = PacketView::parse(in.octets);  // RFC 2865 §3
  if (!packet) {
    return drop(in, client, {Outcome::malformed, "not a well-formed packet", packet.error().text}, now, out);
  }
  const auto which_secret = verify(*packet, *client, in, now, out);
  if (!which_secret) return;
  if (client->old_secret) live->activity_of(*client).verified(*which_secret, now.wall);
  const Repeats::Key key{in.from, in.listener, packet->identifier()};
  const Repeats::Found before = repeats_.look(key, packet->authenticator(), now.steady);  // RFC 5080 §2.2.2
  const Request request{*packet, in, live, *client, *which_secret, before.handle, now, now, out, *packet};
  switch (before.seen) {
    case Repeats::Seen::waiting:
      return tell(request, {Outcome::repeat_waiting, "the first is still being worked on"});
    case Repeats::Seen::full:
      return tell(request, {Outcome::overloaded, "too many requests are being worked on"});
    case Repeats::Seen::answered:
      out.replies.push_back({in.listener, in.from, in.to, out.keep(before.reply)});
      return tell(request, {Outcome::repeat_answered, "the same reply again"});
    case Repeats::Seen::fresh:
      break;
  }
  const std::uint32_t limit = client->requests_per_second;
  if (limit > 0 && !live->activity_of(*client).admit(limit, now.steady))
    return no_reply(request, {Outcome::over_limit, "more requests than the client's requests_per_second"});
  if (packet->code() == Code::status_server) return answer_status(request);
  decide(request);
}

bool Engine::may_use(const plan::Client& client, std::uint16_t listener) const {
  if (client.listeners.empty()) return true;
  const Listening& here = settings_.listeners[listener];
  const std::string_view purpose = here.purpose == Purpose::access ? "access" : "accounting";
  return std::any_of(client.listeners.begin(), client.listeners.end(), [&](const std::string& allowed) {
    return allowed == purpose || allowed == here.at.text();
  });
}

// While a secret is rotated, the new one is tried first, then the old one.
std::optional<plan::WhichSecret> Engine::verify(const PacketView& packet, const plan::Client& client,
                                                const Datagram& in, Now now, Actions& out) {
  using plan::WhichSecret;
  const bool old_valid =
      client.old_secret && (!client.old_secret_until || now.wall < *client.old_secret_until);
  const bool access = settings_.listeners[in.listener].purpose == Purpose::access;
  const Code expected = access ? Code::access_request : Code::accounting_request;
  const bool status = packet.code() == Code::status_server;
  if (packet.code() != expected && !status) {
    drop(in, &client,
         {Outcome::wrong_code, "a packet that does not belong on this port", wire::name_of(packet.code())},
         now, out);
    return std::nullopt;
  }
  if (packet.code() == Code::accounting_request) {  // RFC 2866 §3
    if (wire::verify_accounting_request(packet, client.secret)) return WhichSecret::current;
    if (old_valid && wire::verify_accounting_request(packet, *client.old_secret)) return WhichSecret::old;
    drop(in, &client,
         {Outcome::wrong_signature, "Request Authenticator does not verify: shared secret probably differs"},
         now, out);
    return std::nullopt;
  }
  switch (wire::check_message_authenticator(packet, packet.authenticator(), client.secret)) {
    case Signature::valid:
      return WhichSecret::current;
    case Signature::wrong:
      if (old_valid && wire::check_message_authenticator(packet, packet.authenticator(),
                                                         *client.old_secret) == Signature::valid) {
        return WhichSecret::old;
      }
      drop(
          in, &client,
          {Outcome::wrong_signature, "Message-Authenticator does not verify: shared secret probably differs"},
          now, out);
      return std::nullopt;
    case Signature::absent:
      break;
  }
  // RFC 5997 §3 and RFC 3579 §3.1 demand it of Status-Server and of EAP, whatever the plan says.
  std::string_view because = "no Message-Authenticator, which is required of this client";
  if (!status && client.message_authenticator == plan::SignatureRule::if_present &&
      !packet.find(AttributeType::eap_message)) {
    // Replies can be forged for somebody who may put octets of his own choice in front of what is signed: a
    // device has no Proxy-State, and a proxy signs.
    if (!packet.find(AttributeType::proxy_state)) return WhichSecret::current;
    because = "Proxy-State without Message-Authenticator, as in forged requests";
  }
  drop(in, &client, {Outcome::unsigned_request, because}, now, out);
  return std::nullopt;
}

void Engine::answer_status(const Request& request) {
  const bool access = settings_.listeners[request.in.listener].purpose == Purpose::access;
  reply(request, access ? Code::access_accept : Code::accounting_response, {},
        {Outcome::status_answered, "the server is alive"});
}

void Engine::decide(const Request& request) {
  const HiddenWith with{request.secret(), request.packet.authenticator()};
  const auto changed = edited(request.asked(), nullptr, {plan::EditPoint::received, request.packet, with});
  if (!changed) return decide_edited(request);
  const PacketView packet = *PacketView::parse(*changed);
  decide_edited({packet, request.in, request.live, request.client, request.which_secret, request.repeat,
                 request.arrived, request.now, request.out, request.received});
}

void Engine::decide_edited(Request request) {
  const decide::Way way = decide::find_way(request.asked());
  request.way = &way;
  if (request.accounting()) return record(request);
  decide_access(request);
}

void Engine::decide_access(const Request& request) {
  const decide::Way& way = *request.way;
  // Of a route its name; of the realm table the realm that led there.
  const std::string about = way.route != nullptr ? way.route->name : way.realm;
  switch (way.destination.handling) {
    case plan::Handling::here:
      return prove(request);
    case plan::Handling::forward:
      return forward_access(request);
    case plan::Handling::ignore:
      return no_reply(request, {Outcome::ignored, way.because, about});
    case plan::Handling::refuse:
      return reply(request, Code::access_reject,
                   way.route != nullptr ? decide::reply_message(way.route->message) : Octets{},
                   {Outcome::rejected, way.because, about});
  }
}

void Engine::prove(const Request& request) {
  const plan::User* user = request.live->plan->user_named(request.way->full_name);
  const auto refuse = [&](std::string_view because) {
    reply(request, Code::access_reject, {}, {Outcome::rejected, because});
  };
  const bool unproved = decide::proves_nothing(request.packet);
  if (user == nullptr && !unproved) return refuse("no such user here");
  if (user != nullptr) {
    if (const auto because = decide::why_shut_out(*user, request.asked()); !because.empty())
      return refuse(because);
  }
  if (!unproved) return prove_password(request, *user);
  if (!request.packet.find(AttributeType::message_authenticator))
    return refuse("a request that proves nothing must carry Message-Authenticator");
  admit(request, {user, plan::Proof::client});
}

void Engine::prove_password(const Request& request, const plan::User& user) {
  const auto refuse = [&](std::string_view because, std::string detail = {}) {
    reply(request, Code::access_reject, {},
          {Outcome::rejected, because, std::move(detail), "", decide::Assume::refused});
  };
  if (const auto wait = slowdown_.wait(user, request.client, request.now.steady))
    return refuse("too many wrong passwords in a row", "looked at again in " + jembatan::text_of(*wait));
  if (const auto challenged =
          prove_challenge(request.packet, {user, request.way->user}, request.secret(), random_)) {
    if (!challenged->right)
      return wrong_password(request, user, {Outcome::rejected, challenged->because}, challenged->reject);
    slowdown_.right(user, request.client);
    return admit(request, {&user}, challenged->accept);
  }
  const auto hidden = request.packet.find(AttributeType::user_password);
  if (!hidden) return refuse("the method cannot be proved here: PAP, CHAP and MS-CHAP can");
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed)
    return no_reply(request, {Outcome::malformed, "User-Password cannot be opened", typed.error().text, "",
                              decide::Assume::refused});
  if (!user.password.slow()) {
    proved(request, user, user.password.matches(*typed), *typed);
  } else {
    const Ticket ticket = keep(request);
    if (Pending* pending = pending_.get(ticket)) {
      pending->user = &user;
      request.out.proofs.push_back({ticket, request.live->plan, &user.password, Secret(text_of(*typed))});
    }
  }
  wipe(*typed);
}

void Engine::proved(const Request& request, const plan::User& user, bool matches, OctetView typed) {
  if (matches) {
    slowdown_.right(user, request.client);
    return admit(request, {&user});
  }
  Ending ending{Outcome::rejected, "wrong password", std::string(identity::shape_hint(typed, user.password))};
  if (wire::looks_unreadable(typed)) {
    ending.because = "wrong password: it is unreadable with this client's secret, which very likely differs";
    ending.detail.clear();
  }
  wrong_password(request, user, std::move(ending));
}

void Engine::wrong_password(const Request& request, const plan::User& user, Ending ending,
                            OctetView besides) {
  slowdown_.wrong(user, request.client, request.live->plan->sign_in, request.now.steady);
  ending.assume = decide::Assume::refused;
  reply(request, Code::access_reject, besides, std::move(ending));
}

// `besides`: what the method adds to an Access-Accept. Who proved the password may still not be let in: the
// access rules say.
void Engine::admit(const Request& request, const decide::Candidate& candidate, OctetView besides) {
  const decide::Request asked = request.asked();
  const decide::Admission admission = decide::admit(asked, *request.way, candidate);
  const std::string rule = admission.rule != nullptr ? admission.rule->name : "";
  const plan::User* user = admission.permit ? candidate.user : nullptr;
  const condition::Facts facts = decide::facts_of(asked, *request.way, candidate.user);
  Octets attributes = decide::compose_reply(asked.plan, facts, user, admission.rule);
  if (admission.permit) append(attributes, besides);
  reply(request, admission.permit ? Code::access_accept : Code::access_reject, attributes,
        {admission.permit ? Outcome::accepted : Outcome::rejected, admission.because, rule});
}

void Engine::forward_access(const Request& request) {
  const Ticket ticket = keep(request);
  Pending* pending = pending_.get(ticket);
  if (pending == nullptr) return;
  const auto crossing = crossings_.start(ticket, request.live, request.way->destination.group,
                                         Purpose::access, request.now, request.out);
  if (crossing) {
    pending->crossing = *crossing;
  } else {
    no_reply(request, {Outcome::overloaded, "it could not be forwarded", crossing.error().text});
    pending_.release(ticket);
  }
}

void Engine::record(const Request& request) {
  const decide::Way& way = *request.way;
  if (way.route != nullptr && way.destination.handling == plan::Handling::ignore)
    return no_reply(request, {Outcome::ignored, way.because, way.route->name});
  auto made = accounting::make_record(request.packet, request.client.name, request.in.from.address,
                                      escaped(way.realm), request.now.wall);
  if (!made) return no_reply(request, {Outcome::malformed, "not an accounting record", made.error().text});
  const Ticket ticket = keep(request);
  if (pending_.get(ticket) == nullptr) return;
  accounting::Incoming incoming{std::move(*made), way.accounting.here, {}};
  for (const std::size_t group : way.accounting.groups) {
    incoming.groups.push_back(request.live->plan->groups[group].name);
  }
  request.out.recordings.push_back({ticket, std::move(incoming)});  // the answer leaves when it is durable
}

}  // namespace jembatan::engine
