// The life of a request, as named steps from top to bottom.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "decide/compose.h"
#include "engine/engine.h"
#include "engine/methods.h"
#include "engine/reasons.h"
#include "identity/shape.h"
#include "wire/authenticator.h"
#include "wire/hidden.h"

namespace jembatan::engine {

using forward::Purpose;
using wire::AttributeType;
using wire::Code;
using wire::PacketView;
using wire::Signature;

namespace {

constexpr std::string_view kContradiction = "the request contradicts itself";

// What a datagram of a stranger says about itself; it may not be true.
std::string claims_of(OctetView octets) {
  const auto packet = PacketView::parse(octets);
  if (!packet) return "not even a well-formed packet";
  std::string out;
  const auto name = text_in(packet->find(AttributeType::nas_identifier));
  if (!name.empty()) out = fmt::format("it calls itself '{}'", escaped(name));
  const auto user = text_in(packet->find(AttributeType::user_name));
  if (!user.empty()) out += fmt::format("{}its user is '{}'", out.empty() ? "" : ", ", escaped(user));
  return out;
}

}  // namespace

void Engine::handle(const Datagram& in, Now now, Actions& out) {
  counters_.received();
  const forward::LivePlanPtr& live = live_;  // one plan for the whole request
  const plan::Client* client = live->plan->client_at(in.from.address);
  if (client == nullptr)
    return drop(in, nullptr, {Outcome::unknown_client, "nobody entered this address", claims_of(in.octets)},
                now, out);
  if (!client->enabled)
    return drop(in, client, {Outcome::client_off, "the client is switched off"}, now, out);
  if (!may_use(*client, in.listener, in.to))
    return drop(in, client, {Outcome::wrong_listener, "the client may not use this listener"}, now, out);
  const Result<PacketView> packet = PacketView::parse(in.octets);  // RFC 2865 §3
  if (!packet) {
    return drop(in, client, {Outcome::malformed, "not a well-formed packet", packet.error().text}, now, out);
  }
  const auto which_secret = verify(*packet, *client, in, now, out);
  if (!which_secret) return;
  if (client->old_secret) live->activity_of(*client).verified(*which_secret, now.wall);
  const Repeats::Key key{in.from, in.listener, packet->identifier()};
  const Repeats::Found before = repeats_.look(key, packet->octets(), now.steady);  // RFC 5080 §2.2.2
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

bool Engine::may_use(const plan::Client& client, std::uint16_t listener, const IpAddress& to) const {
  if (client.listeners.empty()) return true;
  const Listening& here = settings_.listeners[listener];
  const std::string_view purpose = here.purpose == Purpose::access ? "access" : "accounting";
  const std::string asked = Endpoint{to, here.at.port}.text();  // of a listener on all addresses
  return std::any_of(client.listeners.begin(), client.listeners.end(), [&](const std::string& allowed) {
    return allowed == purpose || allowed == here.at.text() || allowed == asked;
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
  if (!status && decide::proves_nothing(packet)) {
    drop(in, &client,
         {Outcome::unsigned_request, "neither a credential nor Message-Authenticator (RFC 3579 §3.3)"}, now,
         out);
    return std::nullopt;
  }
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
  if (way.destination.handling == plan::Handling::ignore)
    return no_reply(request, {Outcome::ignored, way.because, about});
  if (std::string problem = decide::credential_of(request.packet).problem; !problem.empty())
    return reply(request, Code::access_reject, {}, {Outcome::rejected, kContradiction, std::move(problem)});
  switch (way.destination.handling) {
    case plan::Handling::here:
      return prove(request);
    case plan::Handling::forward:
      return forward_access(request);
    default:
      return reply(request, Code::access_reject,
                   way.route != nullptr ? decide::reply_message(way.route->message) : Octets{},
                   {Outcome::rejected, way.because, about});
  }
}

// The method comes first: of one that is not answered here, the user does not matter.
void Engine::prove(const Request& request) {
  const std::string_view method = decide::method_of(request.packet);
  const plan::User* user = request.live->plan->user_named(request.way->full_name);
  if (method == "none") {
    const auto because = user == nullptr ? "" : decide::why_shut_out(*user, request.asked());
    if (because.empty()) return admit(request, {user, plan::Proof::client});
    return reply(request, Code::access_reject, {}, {Outcome::rejected, because});
  }
  if (decide::answered_here(method)) return prove_password(request, user);
  refuse_password(request, {Outcome::rejected, decide::kNotAnswered, std::string(method)});
}

Slowdown::Attempt Engine::attempt_of(const Request& request, const plan::User* user) {
  return {user == nullptr ? std::string_view(request.way->full_name) : std::string_view(user->name),
          request.client.name, text_in(request.packet.find(AttributeType::calling_station_id))};
}

void Engine::prove_password(const Request& request, const plan::User* user) {
  const auto& limits = request.live->plan->sign_in;
  if (const auto wait = slowdown_->wait(attempt_of(request, user), limits, request.now.steady)) {
    return refuse_password(request, {Outcome::rejected, "too many wrong passwords in a row",
                                     "looked at again in " + jembatan::text_of(*wait)});
  }
  const auto challenged =
      prove_challenge(request.packet, {user, request.way->user}, request.secret(), random_);
  if (!challenged) return prove_typed(request, user);
  if (challenged->right) return right_password(request, *user, challenged->accept);
  slowdown_->wrong(attempt_of(request, user), limits, request.now.steady);
  refuse_password(request, {Outcome::rejected, challenged->because}, challenged->reject);
}

// An unknown user takes as long as one whose password is hashed, if the plan has such users.
void Engine::prove_typed(const Request& request, const plan::User* user) {
  const plan::Plan& plan = *request.live->plan;
  const auto hidden = request.packet.find(AttributeType::user_password);
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed)
    return no_reply(request, {Outcome::malformed, "User-Password cannot be opened", typed.error().text, "",
                              decide::Assume::refused});
  const identity::StoredPassword* stored = user != nullptr ? &user->password : plan.slow_password();
  if (stored == nullptr || !stored->slow()) {
    proved(request, user, user != nullptr && stored->matches(*typed), *typed);
  } else if (const auto wait =
                 slowdown_->begin(attempt_of(request, user), plan.sign_in, request.now.steady)) {
    refuse_password(request, {Outcome::rejected, "too many passwords of this user are being compared",
                              "looked at again in " + jembatan::text_of(*wait)});
  } else {
    const Ticket ticket = keep(request);
    if (Pending* pending = pending_.get(ticket)) {
      pending->user = user;
      request.out.proofs.push_back({ticket, request.live->plan, stored, Secret(text_of(*typed))});
    } else {
      slowdown_->end(attempt_of(request, user));
    }
  }
  wipe(*typed);
}

void Engine::proved(const Request& request, const plan::User* user, bool matches, OctetView typed) {
  if (matches) return right_password(request, *user);
  Ending ending{Outcome::rejected, user == nullptr ? kNoUser : "wrong password"};
  const bool unreadable = wire::looks_unreadable(typed);
  if (unreadable) {
    ending.because = signed_by_client(request) ? kUnreadableBefore : kUnreadableHere;
  } else if (user != nullptr) {
    ending.detail = identity::shape_hint(typed, user->password);
  }
  const auto attempt = attempt_of(request, user);
  if (ending.because == kUnreadableHere) {
    slowdown_->end(attempt);  // it could come from anybody
  } else {
    slowdown_->wrong(attempt, request.live->plan->sign_in, request.now.steady);
  }
  refuse_password(request, std::move(ending));
}

// Whoever knows the password may be told why it does not help.
void Engine::right_password(const Request& request, const plan::User& user, OctetView besides) {
  slowdown_->right(attempt_of(request, &user));
  const auto because = decide::why_shut_out(user, request.asked());
  if (because.empty()) return admit(request, {&user}, besides);
  const bool from_elsewhere = because == decide::kNotFromHere;
  reply(request, Code::access_reject, challenge_refusal(request.packet, from_elsewhere, random_),
        {Outcome::rejected, because});
}

void Engine::refuse_password(const Request& request, Ending ending, OctetView besides) {
  ending.assume = decide::Assume::refused;
  reply(request, Code::access_reject, besides, std::move(ending));
}

// `besides`: what the method adds to an Access-Accept. Who proved the password may still not be let in: the
// access rules say.
void Engine::admit(const Request& request, const decide::Candidate& candidate, OctetView besides) {
  const decide::Request asked = request.asked();
  const decide::Admission admission = decide::admit(asked, *request.way, candidate);
  const plan::User* user = admission.permit ? candidate.user : nullptr;
  const condition::Facts facts = decide::facts_of(asked, *request.way, candidate.user);
  const Code code = admission.permit ? Code::access_accept : Code::access_reject;
  const HiddenWith with{request.secret(), request.packet.authenticator()};
  Octets attributes =
      decide::compose_reply(asked.plan, facts, user, admission.rule, code, hidden_values(with, random_).hide);
  if (admission.permit) append(attributes, besides);
  reply(request, code, attributes,
        {admission.permit ? Outcome::accepted : Outcome::rejected, admission.because,
         decide::detail_of(admission, facts.method, asked.now)});
}

std::string Engine::loop_of(const Request& request) const {
  std::size_t hops = 0;
  for (const wire::Attribute attribute : request.received.attributes()) {
    if (attribute.type != AttributeType::proxy_state) continue;
    ++hops;
    if (!loop_mark_->is_ours(attribute.value)) continue;
    return fmt::format(
        "realm '{}' leads to group '{}' here, and from there back to this node by way of client '{}'",
        escaped(request.way->realm), request.live->plan->groups[request.way->destination.group].name,
        request.client.name);
  }
  if (hops < request.live->plan->realm_default.most_hops) return {};
  return fmt::format("it has passed {} proxies, and most_hops is {}", hops,
                     request.live->plan->realm_default.most_hops);
}

// A loop is answered: whoever sent it on to us must not take us for dead.
void Engine::forward_access(const Request& request) {
  if (std::string way = loop_of(request); !way.empty())
    return reply(request, Code::access_reject, {}, {Outcome::loop, "forwarded in a circle", std::move(way)});
  const Ticket ticket = keep(request);
  Pending* pending = pending_.get(ticket);
  if (pending == nullptr) return;
  const auto crossing = crossings_.start(ticket, request.live, request.way->destination.group,
                                         Purpose::access, request.now, request.out);
  if (crossing) {
    pending->crossing = *crossing;
  } else {
    pending_.release(ticket);
    const Error& error = crossing.error();
    if (error.code == Errc::unreachable) return silent(request, error.text);
    const Outcome outcome = error.code == Errc::busy ? Outcome::overloaded : Outcome::malformed;
    no_reply(request, {outcome, "it could not be forwarded", error.text});
  }
}

// Its secret is the right one then: verify() has looked at the signature.
bool Engine::signed_by_client(const Request& request) {
  return request.received.find(AttributeType::message_authenticator).has_value();
}

// What goes on to a server that can only say that the password is wrong.
bool Engine::unreadable_here(const Request& request) {
  const auto hidden = request.packet.find(AttributeType::user_password);
  if (!hidden || signed_by_client(request)) return false;
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed) return false;
  const bool out = wire::looks_unreadable(*typed);
  wipe(*typed);
  return out;
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
