#include "engine/engine.h"

#include <algorithm>

#include "decide/reasons.h"
#include "engine/mirroring.h"
#include "engine/onward.h"
#include "engine/replying.h"
#include "engine/resume.h"
#include "wire/hidden.h"

namespace jembatan::engine {

using wire::AttributeType;
using wire::Code;
using wire::PacketView;

Engine::Engine(Settings settings, Random& random, Counters& counters)
    : settings_(std::move(settings)),
      random_(random),
      counters_(counters),
      repeats_(settings_.most_repeats, settings_.keep_replies),
      pending_(settings_.most_pending),
      crossings_(*this, random, counters,
                 {settings_.most_pending - settings_.most_pending / 4, settings_.group_percent,
                  settings_.client_percent}),
      slowdown_(settings_.slowdown),
      loop_mark_(settings_.loop_mark),
      conversations_(settings_.conversations),
      origins_(settings_.origins),
      remembered_(settings_.remembered) {
  std::uint8_t seed[24];
  random_.fill(seed);
  if (!conversations_) conversations_ = std::make_shared<Conversations>();
  if (!remembered_) remembered_ = std::make_shared<Remembered>();
  if (!origins_) origins_ = std::make_shared<Origins>(load64(seed));
  if (!slowdown_) slowdown_ = std::make_shared<Slowdown>(load64(seed));
  if (!loop_mark_) loop_mark_ = std::make_shared<const LoopMark>(Secret(text_of(OctetView(seed).subspan(8))));
}

void Engine::use(forward::LivePlanPtr live, const Turn& turn) {
  owner_.check();
  live_ = std::move(live);
  pending_.each([&](Ticket ticket) {
    const plan::Client* client = live_->plan->client_at(pending_.get(ticket)->from.address);
    if (client == nullptr)
      return cancel(ticket, {Outcome::unknown_client, "the plan has lost the client meanwhile"}, turn);
    if (!client->enabled)
      cancel(ticket, {Outcome::client_off, "the client was switched off meanwhile"}, turn);
  });
}

void Engine::drop(const Datagram& in, const plan::Client* client, Ending ending, const Turn& turn) {
  counters_.ended(ending.outcome);
  Event event;
  event.at = turn.now.wall;
  event.outcome = ending.outcome;
  if (in.octets.size() >= 2) {
    event.code = static_cast<Code>(in.octets[0]);
    event.identifier = in.octets[1];
  }
  event.source = in.from;
  if (client != nullptr) event.client = client->name;
  event.because = ending.because;
  event.detail = std::move(ending.detail);
  turn.out.events.push_back(std::move(event));
}

StoryPtr Engine::story_of(const Request& request, OctetView reply) {
  auto out = std::make_shared<Story>();
  out->live = request.live;
  out->client = &request.client;
  const OctetView received = request.packet.octets();
  out->request.assign(received.begin(), received.end());
  out->reply.assign(reply.begin(), reply.end());
  out->arrived = request.arrived.wall;
  out->which_secret = request.which_secret;
  out->group = request.course->way().destination.group;
  out->sessions = request.course->sessions();
  out->given = std::move(*request.given);
  return out;
}

void Engine::tell(const Request& request, Ending ending, OctetView reply) {
  counters_.ended(ending.outcome);
  Event& event = request.turn.out.events.emplace_back();
  std::optional<Actions::Copy> copy;
  event.at = request.turn.now.wall;
  event.outcome = ending.outcome;
  event.code = request.packet.code();
  event.identifier = request.packet.identifier();
  event.source = request.in.from;
  event.client = request.client.name;
  if (request.course != nullptr) {
    event.untold = settings_.no_stories != nullptr && settings_.no_stories->load(std::memory_order_relaxed);
    copy = copy_of(request);
    if (copy || !event.untold) event.story = story_of(request, reply);
    const auto user = request.course->packet().find(AttributeType::user_name);
    decide::Way way = request.course->take_way();
    if (user) event.user = std::move(way.name);
    event.name = std::move(way.full_name);
    event.realm = std::move(way.realm);
  } else {
    event.user = text_in(request.packet.find(AttributeType::user_name));
  }
  event.server = std::move(ending.server);
  event.because = ending.because;
  event.detail = std::move(ending.detail);
  event.took = request.age();
  if (!copy) return;
  copy->story = event.untold ? std::exchange(event.story, nullptr) : event.story;
  copy->event = event;
  copy->event.story = nullptr;
  request.turn.out.copies.push_back(std::move(*copy));
}

// Of the first round alone: its State would be a stranger elsewhere.
std::optional<Actions::Copy> Engine::copy_of(const Request& request) {
  const auto was_asked = [](const Given& given) {
    return std::holds_alternative<Given::Answered>(given.what) ||
           std::holds_alternative<decide::Silence>(given.what);
  };
  const auto& given = *request.given;
  if (std::none_of(given.begin(), given.end(), was_asked)) return std::nullopt;
  const decide::Way& way = request.course->way();
  const plan::Mirror* mirror = decide::mirror_of(*request.live->plan, way);
  if (mirror == nullptr || request.packet.find(AttributeType::state)) return std::nullopt;
  if (mirror->percent < 100 && random_.below(100) >= mirror->percent) return std::nullopt;
  Actions::Copy out;
  out.mirror = mirror;
  out.of = way.route != nullptr && way.route->mirror
               ? mirror_name(*way.route)
               : mirror_name(request.live->plan->groups[way.destination.group]);
  return out;
}

void Engine::no_reply(const Request& request, Ending ending) {
  repeats_.forget(request.repeat);
  tell(request, std::move(ending));
}

void Engine::reply(const Request& request, Code code, OctetView attributes, Ending ending) {
  wire::PacketBuilder packet(code, request.packet.identifier(), request.packet.authenticator());
  const Status built = put_reply(request.packet, code, attributes, request.secret(), packet);
  if (!built) return no_reply(request, {Outcome::reply_too_long, decide::kTooLong, built.error().text});
  const OctetSpan octets = packet.finish();
  (void)repeats_.answer(request.repeat, octets, request.turn.now.steady);
  request.turn.out.replies.push_back(
      {request.in.listener, request.in.from, request.in.to, request.turn.out.keep(octets)});
  if (code == Code::access_reject) show_rejected(request);
  tell(request, std::move(ending), octets);
}

// For whoever is allowed to see the rejected passwords of some user now.
void Engine::show_rejected(const Request& request) const {
  if (settings_.watched == nullptr || request.course == nullptr ||
      !settings_.watched->load(std::memory_order_relaxed))
    return;
  const auto hidden = request.course->packet().find(AttributeType::user_password);
  if (!hidden) return;
  auto typed = wire::reveal_password(hidden->value, request.packet.authenticator(), request.secret());
  if (!typed) return;
  request.turn.out.rejected.push_back(
      {request.course->way().full_name, request.client.name, request.turn.now.wall, Secret(text_of(*typed))});
  wipe(*typed);
}

std::optional<Ticket> Engine::wait(const Request& request, std::optional<Duration> at_most) {
  const bool first = pending_.get(request.ticket) == nullptr;
  const Ticket ticket = first ? pending_.take() : pending_.renew(request.ticket);
  Pending* pending = pending_.get(ticket);
  if (pending == nullptr) {
    no_reply(request, {Outcome::overloaded, "too many requests are being worked on"});
    return std::nullopt;
  }
  if (first) {
    pending->octets.assign(request.packet.octets().begin(), request.packet.octets().end());
    pending->listener = request.in.listener;
    pending->from = request.in.from;
    pending->to = request.in.to;
    pending->arrived = request.arrived;
    pending->live = request.live;
    pending->client = &request.client;
    pending->which_secret = request.which_secret;
    pending->repeat = request.repeat;
    pending->course.emplace(std::move(*request.course));
    pending->course->moved_to(*PacketView::parse(pending->octets));
    pending->given = std::move(*request.given);
    pending->conversation = std::move(*request.conversation);
  }
  pending->crossing = {};
  pending->comparing = false;
  pending->looking_up = false;
  pending->judging = false;
  pending->began_elsewhere = false;
  repeats_.waits(pending->repeat, ticket);
  if (at_most) deadlines_.push({request.turn.now.steady + *at_most, ticket});
  return ticket;
}

void Engine::cancel(Ticket ticket, const Ending& ending, const Turn& turn) {
  resume(ticket, turn, [&](const Request& request) {
    const Pending& pending = *pending_.get(ticket);
    crossings_.forget(pending.crossing);
    if (pending.comparing) slowdown_->end(attempt_of(request));
    no_reply(request, ending);
  });
}

void Engine::asked(Ticket owner, const Asking& what, Now now) {
  Pending& pending = *pending_.get(owner);
  pending.given.push_back(
      {std::chrono::duration_cast<std::chrono::microseconds>(now.steady - pending.arrived.steady),
       Given::Asked{static_cast<std::uint16_t>(what.server), what.again, what.leg}});
}

Status Engine::compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                       wire::PacketBuilder& out) {
  Pending& pending = *pending_.get(owner);
  decide::Course& course = *pending.course;
  return put_onward(course, pending.client->secret_of(pending.which_secret),
                    {course.way().destination.group, server, authenticator, loop_mark_->make(owner)}, out);
}

std::optional<TimePoint> Engine::next_deadline() {
  owner_.check();
  while (!deadlines_.empty() && pending_.get(deadlines_.top().ticket) == nullptr) deadlines_.pop();
  const auto crossing = crossings_.next_deadline();
  if (deadlines_.empty()) return crossing;
  return crossing ? std::min(*crossing, deadlines_.top().at) : deadlines_.top().at;
}

void Engine::stop(const Turn& turn) {
  owner_.check();
  std::vector<std::pair<TimePoint, Ticket>> waiting;
  pending_.each([&](Ticket ticket) { waiting.emplace_back(pending_.get(ticket)->arrived.steady, ticket); });
  std::stable_sort(waiting.begin(), waiting.end(),
                   [](const auto& one, const auto& other) { return one.first < other.first; });
  for (const auto& [arrived, ticket] : waiting)
    cancel(ticket, {Outcome::stopped, "the server stopped before there was an answer"}, turn);
}

}  // namespace jembatan::engine
