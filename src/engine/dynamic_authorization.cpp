#include "engine/dynamic_authorization.h"

#include <fmt/format.h>

#include <algorithm>

#include "accounting/sessions.h"
#include "base/text.h"
#include "decide/reasons.h"
#include "dictionary/describe.h"
#include "engine/client_check.h"
#include "engine/replying.h"
#include "plan/realm_table.h"
#include "wire/authenticator.h"

namespace jembatan::engine {

using wire::AttributeType;
using wire::Code;
using wire::PacketView;

namespace {

constexpr std::size_t kMostAtATime = 4096;
constexpr std::size_t kMostSeen = 16384;  // of one client
constexpr Duration kKeepReplies{30000};
constexpr std::chrono::seconds kOfNow{300};  // RFC 5176 §6.3
// Who asked gives up after whom it asked: each proxy on the way waits shorter.
constexpr Duration kPatience{14000};
constexpr Duration kPatienceOfAHop{2000};
constexpr Duration kLeastPatience{4000};

bool is_ack(Code code) {
  return code == Code::disconnect_ack || code == Code::coa_ack;
}

Code nak_of(Code request) {
  return request == Code::disconnect_request ? Code::disconnect_nak : Code::coa_nak;
}

const std::vector<std::string>& realms_for(const plan::Client& client, Code code) {
  return code == Code::disconnect_request ? client.may_disconnect : client.may_change;
}

std::size_t hops_of(const PacketView& packet) {
  const auto all = packet.attributes();
  return static_cast<std::size_t>(std::count_if(
      all.begin(), all.end(), [](const auto& one) { return one.type == AttributeType::proxy_state; }));
}

// A Request Authenticator that is a digest of the packet hides nothing in it.
std::string hidden_in(const PacketView& packet, const dictionary::Catalogue& catalogue) {
  for (const auto& line : dictionary::describe(catalogue, packet))
    if (line.definition != nullptr && line.definition->hiding != dictionary::Hiding::none) return line.name;
  return {};
}

std::string session_text(const accounting::Session& session) {
  return fmt::format("session {} of {} at client {}", accounting::session_number(session.id),
                     session.user.empty() ? "nobody named" : "'" + session.user + "'", session.client);
}

}  // namespace

DynamicAuthorization::DynamicAuthorization(Parts parts, Random& random, Counters& counters)
    : parts_(std::move(parts)),
      random_(random),
      counters_(counters),
      repeats_(kMostAtATime, kKeepReplies),
      pending_(kMostAtATime),
      seen_(kMostSeen, 2 * kOfNow + std::chrono::seconds(1)),
      crossings_(*this, random, counters, {kMostAtATime, 100, 50}) {}

void DynamicAuthorization::handle(const Datagram& in, const Turn& turn) {
  owner_.check();
  counters_.received();
  const plan::Client* client = live_->plan->client_at(in.from.address);
  if (auto why = turned_away(client, parts_.listeners[in.listener], in))
    return tell(in, client, nullptr, std::move(*why), turn);
  const auto packet = PacketView::parse(in.octets);
  if (!packet)
    return tell(in, client, nullptr, {Outcome::malformed, "not a well-formed packet", packet.error().text},
                turn);
  const auto which_secret = verify(*packet, *client, in, turn);
  if (!which_secret) return;
  if (client->old_secret) live_->activity_of(*client).verified(*which_secret, turn.now.wall);
  const auto before =
      repeats_.look({in.from, in.listener, packet->identifier()}, packet->octets(), turn.now.steady);
  const Asked asked{*packet, in, *client, *which_secret, before.handle, turn};
  if (before.replaced) {
    if (Pending* replaced = pending_.get(*before.replaced); replaced != nullptr) {
      tell(replaced->origin->datagram(), client, nullptr, {Outcome::superseded, kSuperseded}, turn);
      release(*before.replaced);
    }
  }
  if (before.seen == Repeats::Seen::answered)
    turn.out.replies.push_back({in.listener, in.from, in.to, turn.out.keep(before.reply)});
  if (auto ending = not_the_first(before.seen)) return tell(in, client, &*packet, std::move(*ending), turn);
  const auto end = [&](Ending ending) {
    repeats_.forget(before.handle);
    tell(in, client, &*packet, std::move(ending), turn);
  };
  if (auto ending = too_many(*client, live_->activity_of(*client), turn.now)) return end(std::move(*ending));
  if (std::string why = not_of_now(*packet, turn.now); !why.empty())
    return end({Outcome::replayed, "its Event-Timestamp is not of now", std::move(why)});
  if (auto why = why_not_sent_on(asked)) return refuse(asked, std::move(*why));
  const auto seen = seen_.look(client->name, packet->authenticator(), turn.now.steady);
  if (seen == SeenRequests::Seen::full)
    return end({Outcome::overloaded, "more requests about sessions in 10m than can be remembered"});
  if (seen == SeenRequests::Seen::before)
    return end({Outcome::replayed, "it was here before, and is not carried out again"});
  auto found = find_session(parts_.sessions, *packet, realms_for(*client, packet->code()));
  if (auto* why = std::get_if<NotAcknowledged>(&found)) return refuse(asked, std::move(*why));
  pass_on(asked, std::get<FoundSession>(std::move(found)));
}

std::optional<plan::WhichSecret> DynamicAuthorization::verify(const PacketView& packet,
                                                              const plan::Client& client, const Datagram& in,
                                                              const Turn& turn) {
  const auto refused = [&](Outcome outcome, std::string_view because, std::string detail = {}) {
    tell(in, &client, &packet, {outcome, because, std::move(detail)}, turn);
    return std::nullopt;
  };
  if (packet.code() != Code::disconnect_request && packet.code() != Code::coa_request)
    return refused(Outcome::wrong_code, "a packet that does not belong on this port",
                   wire::name_of(packet.code()));
  const auto which = secret_of_digested(packet, client, turn.now.wall);
  if (!which)
    return refused(Outcome::wrong_signature,
                   "Request Authenticator does not verify: shared secret probably differs");
  const auto signature = wire::check_message_authenticator(packet, {}, client.secret_of(*which));
  if (signature == wire::Signature::wrong)
    return refused(Outcome::wrong_signature, "Message-Authenticator does not verify");
  if (signature == wire::Signature::absent && client.message_authenticator == plan::SignatureRule::always)
    return refused(Outcome::unsigned_request, "no Message-Authenticator, which is required of this client");
  return which;
}

// What was sent before the node began may have been carried out by then: it knows no more. Nor does it when
// its clock has been set back: the time is also counted from the beginning, which nobody sets.
std::string DynamicAuthorization::not_of_now(const PacketView& packet, Now now) const {
  using std::chrono::floor;
  using std::chrono::seconds;
  const WallTime counted =
      parts_.began.wall + std::chrono::duration_cast<Duration>(now.steady - parts_.began.steady);
  for (const wire::Attribute attribute : packet.attributes()) {
    if (attribute.type != AttributeType::event_timestamp) continue;
    const auto told = number_in(std::optional(attribute)).value_or(0);
    const WallTime at = std::chrono::system_clock::from_time_t(told);
    const auto late = floor<seconds>(now.wall) - floor<seconds>(at);
    if (late > kOfNow || -late > kOfNow)
      return fmt::format("{} s {} this node's clock; 300 s are allowed", std::abs(late.count()),
                         late.count() > 0 ? "behind" : "before");
    if (at < floor<seconds>(parts_.began.wall))
      return "it was sent before this node began, which does not know what was carried out by then";
    if (floor<seconds>(counted) - at > kOfNow + seconds(1))
      return fmt::format(
          "this node's clock was set back by {} s since it began, and what was carried out then is not known "
          "any "
          "more: a restart mends it",
          floor<seconds>(counted - now.wall).count());
  }
  return {};
}

std::optional<NotAcknowledged> DynamicAuthorization::why_not_sent_on(const Asked& asked) const {
  const PacketView& packet = asked.packet;
  const std::size_t hops = hops_of(packet);
  for (const wire::Attribute attribute : packet.attributes())
    if (attribute.type == AttributeType::proxy_state && parts_.loop_mark->is_ours(attribute.value))
      return NotAcknowledged{ErrorCause::request_not_routable, "forwarded in a circle"};
  if (hops >= live_->plan->realm_default.most_hops)
    return NotAcknowledged{
        ErrorCause::request_not_routable, "it has passed too many proxies",
        fmt::format("{}, and most_hops is {}", hops, live_->plan->realm_default.most_hops)};
  if (realms_for(asked.client, packet.code()).empty())
    return NotAcknowledged{ErrorCause::administratively_prohibited, decide::kMayNot,
                           packet.code() == Code::disconnect_request ? "may_disconnect" : "may_change"};
  if (!packet.find(AttributeType::event_timestamp))
    return NotAcknowledged{ErrorCause::missing_attribute, "no Event-Timestamp: it could be of any time"};
  if (std::string hidden = hidden_in(packet, *live_->plan->catalogue); !hidden.empty())
    return NotAcknowledged{ErrorCause::unsupported_attribute, "a hidden attribute cannot be sent on", hidden};
  return std::nullopt;
}

void DynamicAuthorization::pass_on(const Asked& asked, FoundSession found) {
  const Ticket ticket = pending_.take();
  Pending* pending = pending_.get(ticket);
  if (pending == nullptr)
    return refuse(asked, {ErrorCause::resources_unavailable, "too many requests are being worked on"});
  const OctetView octets = asked.packet.octets();
  *pending = {};
  pending->live = live_;
  pending->arrived = asked.turn.now;
  pending->origin = Origin{{octets.begin(), octets.end()},
                           asked.in.listener,
                           asked.in.from,
                           asked.in.to,
                           &asked.client,
                           asked.which_secret,
                           asked.repeat};
  pending->request = {asked.packet.code(), std::move(found), {}};
  repeats_.waits(asked.repeat, ticket);
  if (auto why = start(ticket, asked.turn)) {
    not_answered(*pending, std::move(*why), asked.turn);
    release(ticket);
  }
}

void DynamicAuthorization::ask(SessionRequest request, const Turn& turn, Done done) {
  owner_.check();
  const Ticket ticket = pending_.take();
  Pending* pending = pending_.get(ticket);
  if (pending == nullptr) return done({.why_not = "too many requests are being worked on"}, turn);
  *pending = {};
  pending->live = live_;
  pending->arrived = turn.now;
  pending->done = std::move(done);
  pending->request = std::move(request);
  if (auto why = start(ticket, turn)) {
    not_answered(*pending, std::move(*why), turn);
    release(ticket);
  }
}

std::optional<NotAcknowledged> DynamicAuthorization::start(Ticket ticket, const Turn& turn) {
  Pending& pending = *pending_.get(ticket);
  const FoundSession& session = pending.request.of;
  const plan::Client* device = pending.live->plan->client_named(session.session.client);
  constexpr auto kNowhere = ErrorCause::request_not_routable;
  if (device == nullptr)
    return NotAcknowledged{kNowhere, "the plan has lost the client of the session", session.session.client};
  pending.device = device;
  if (!device->enabled)
    return NotAcknowledged{kNowhere, "the client of the session is switched off", device->name};
  if (device->authorization_port == 0)
    return NotAcknowledged{kNowhere, decide::kTakesNoSuchRequests, device->name};
  if (!device->address.contains(session.device))
    return NotAcknowledged{kNowhere, "the client of the session has moved",
                           fmt::format("{} was at {}", device->name, session.device.text())};
  pending.at = {session.device, device->authorization_port};
  const Duration hops = kPatienceOfAHop * (pending.origin ? hops_of(pending.origin->packet()) + 1 : 0);
  forward::Asker asker;
  asker.began_at = 0;  // by the secret that the device uses
  const auto& activity = pending.live->activity_of(*device);
  if (takes_old_secret(*device, turn.now.wall) &&
      activity.last_verified(plan::WhichSecret::old) > activity.last_verified(plan::WhichSecret::current))
    asker.began_at = 1;
  Crossings::Errand errand{pending.live,
                           device->device,
                           pending.request.code,
                           pending.origin ? pending.origin->client : nullptr,
                           asker,
                           turn.now.steady + std::max(kLeastPatience, kPatience - hops)};
  errand.at = session.device;
  const auto crossing = crossings_.start(ticket, std::move(errand), turn);
  if (!crossing)
    return NotAcknowledged{crossing.error().code == Errc::busy ? ErrorCause::resources_unavailable
                                                               : ErrorCause::other_proxy_processing_error,
                           "it could not be sent on", crossing.error().text};
  pending.crossing = *crossing;
  return std::nullopt;
}

// A hop on the way may have changed the name: the device knows its own.
Status DynamicAuthorization::compose(Ticket owner, const plan::Server&, const wire::Authenticator&,
                                     wire::PacketBuilder& out) {
  const Pending& pending = *pending_.get(owner);
  if (!pending.origin) {
    const auto now = std::chrono::system_clock::to_time_t(pending.arrived.wall);
    const Status added = out.add_encoded(pending.request.attributes);
    return added ? out.add(AttributeType::event_timestamp, static_cast<std::uint32_t>(now)) : added;
  }
  const Octets& user = pending.request.of.user_name;
  const PacketView packet = pending.origin->packet();
  for (const wire::Attribute attribute : packet.attributes()) {
    if (attribute.type == AttributeType::message_authenticator) continue;
    const bool is_name = attribute.type == AttributeType::user_name && !user.empty();
    if (const Status added = out.add(attribute.type, is_name ? OctetView(user) : attribute.value); !added)
      return added;
  }
  return out.add(AttributeType::proxy_state, parts_.loop_mark->make(owner));
}

void DynamicAuthorization::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets,
                                    const Turn& turn) {
  owner_.check();
  const auto arrived = crossings_.on_reply(lane, from, octets, turn);
  if (!arrived) return;
  answered(*pending_.get(arrived->owner), arrived->reply, turn);
  pending_.release(arrived->owner);
}

void DynamicAuthorization::answered(Pending& pending, const PacketView& theirs, const Turn& turn) {
  Octets attributes;
  for (const wire::Attribute attribute : theirs.attributes()) {
    const bool of_the_hop = attribute.type == AttributeType::message_authenticator ||
                            attribute.type == AttributeType::proxy_state;
    if (!of_the_hop)
      append(attributes,
             theirs.octets().subspan(attribute.offset, attribute.value.size() + wire::kAttributeHeader));
  }
  if (!pending.origin)
    return own_ended(
        pending,
        {pending.device->name, pending.at, theirs.code(), std::move(attributes), "",
         std::chrono::duration_cast<std::chrono::microseconds>(turn.now.steady - pending.arrived.steady)},
        turn);
  const Origin& origin = *pending.origin;
  const PacketView packet = origin.packet();
  const Datagram in = origin.datagram();
  const Asked asked{packet, in, *origin.client, origin.which_secret, origin.repeat, turn};
  std::string detail = session_text(pending.request.of.session);
  if (const auto cause = number_in(theirs.find(AttributeType::error_cause)))
    detail += fmt::format(", Error-Cause {}", *cause);
  Ending ending{is_ack(theirs.code()) ? Outcome::acknowledged : Outcome::not_acknowledged,
                "the device's answer", std::move(detail)};
  ending.server = "client/" + pending.device->name;
  reply(asked, theirs.code(), attributes, std::move(ending), &pending);
}

void DynamicAuthorization::not_answered(Pending& pending, NotAcknowledged why, const Turn& turn) {
  if (!pending.origin)
    return own_ended(pending,
                     {pending.device == nullptr ? "" : pending.device->name,
                      pending.at,
                      {},
                      {},
                      decide::with_detail(why.because, why.detail)},
                     turn);
  const Origin& origin = *pending.origin;
  const PacketView packet = origin.packet();
  const Datagram in = origin.datagram();
  refuse({packet, in, *origin.client, origin.which_secret, origin.repeat, turn}, std::move(why), &pending);
}

// No datagram came for it, so no counter and no journal has it: the log and the live feed do.
void DynamicAuthorization::own_ended(Pending& pending, const SessionAnswer& answer, const Turn& turn) {
  const std::string asked = wire::name_of(pending.request.code);
  turn.out.notices.push_back({turn.now.wall, is_ack(answer.code) ? Weight::info : Weight::warning,
                              session_text(pending.request.of.session),
                              answer.code == Code{} ? fmt::format("{}: no answer: {}", asked, answer.why_not)
                                                    : fmt::format("{} to {}: {}", asked, answer.at.text(),
                                                                  wire::name_of(answer.code))});
  pending.done(answer, turn);
}

void DynamicAuthorization::on_timer(const Turn& turn) {
  owner_.check();
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(turn)) {
    Pending& pending = *pending_.get(given_up.owner);
    not_answered(pending,
                 {ErrorCause::other_proxy_processing_error, "the client of the session does not answer",
                  fmt::format("{} at {}", pending.device->name, pending.at.text())},
                 turn);
    pending_.release(given_up.owner);
  }
}

void DynamicAuthorization::release(Ticket ticket) {
  crossings_.forget(pending_.get(ticket)->crossing);
  pending_.release(ticket);
}

void DynamicAuthorization::stop(const Turn& turn) {
  owner_.check();
  pending_.each([&](Ticket ticket) {
    Pending& pending = *pending_.get(ticket);
    if (pending.origin) {
      tell(pending.origin->datagram(), pending.origin->client, nullptr,
           {Outcome::stopped, "the node was stopped"}, turn);
    } else {
      own_ended(pending, {.why_not = "the node is being stopped"}, turn);
    }
    release(ticket);
  });
}

void DynamicAuthorization::refuse(const Asked& asked, NotAcknowledged why, const Pending* of) {
  std::uint8_t cause[6] = {static_cast<std::uint8_t>(AttributeType::error_cause), 6};
  store32(&cause[2], static_cast<std::uint32_t>(why.cause));
  reply(asked, nak_of(asked.packet.code()), cause,
        {Outcome::not_acknowledged, why.because, std::move(why.detail)}, of);
}

void DynamicAuthorization::reply(const Asked& asked, Code code, OctetView attributes, Ending ending,
                                 const Pending* of) {
  wire::PacketBuilder packet(code, asked.packet.identifier(), asked.packet.authenticator());
  const Status built =
      put_reply(asked.packet, code, attributes, asked.client.secret_of(asked.which_secret), packet);
  if (!built) {
    repeats_.forget(asked.repeat);
    return tell(asked.in, &asked.client, &asked.packet,
                {Outcome::reply_too_long, decide::kTooLong, built.error().text}, asked.turn);
  }
  const OctetSpan octets = packet.finish();
  (void)repeats_.answer(asked.repeat, octets, asked.turn.now.steady);
  asked.turn.out.replies.push_back(
      {asked.in.listener, asked.in.from, asked.in.to, asked.turn.out.keep(octets)});
  tell(asked.in, &asked.client, &asked.packet, std::move(ending), asked.turn);
  if (of != nullptr) {
    Event& event = asked.turn.out.events.back();
    event.name = of->request.of.session.user;
    event.realm = of->request.of.session.realm;
    event.took =
        std::chrono::duration_cast<std::chrono::microseconds>(asked.turn.now.steady - of->arrived.steady);
  }
}

void DynamicAuthorization::tell(const Datagram& in, const plan::Client* client, const PacketView* packet,
                                Ending ending, const Turn& turn) {
  counters_.ended(ending.outcome);
  Event& event = turn.out.events.emplace_back();
  event.at = turn.now.wall;
  event.outcome = ending.outcome;
  event.source = in.from;
  if (!in.octets.empty()) event.code = static_cast<Code>(in.octets[0]);
  if (in.octets.size() > 1) event.identifier = in.octets[1];
  if (client != nullptr) event.client = client->name;
  if (packet != nullptr) event.user = text_in(packet->find(AttributeType::user_name));
  event.server = std::move(ending.server);
  event.because = ending.because;
  event.detail = std::move(ending.detail);
}

}  // namespace jembatan::engine
