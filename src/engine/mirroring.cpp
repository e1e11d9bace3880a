#include "engine/mirroring.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "condition/values.h"
#include "dictionary/value_text.h"
#include "engine/neighbour.h"
#include "engine/onward.h"

namespace jembatan::engine {
namespace {

constexpr std::size_t kMostExamples = 20;

const plan::Group& mirrored_to(const Actions::Copy& copy) {
  return copy.story->live->plan->groups[copy.mirror->group];
}

const Given::Answered* answer_in(const Story& story) {
  const Given::Answered* out = nullptr;
  for (const Given& given : story.given) {
    if (const auto* answered = std::get_if<Given::Answered>(&given.what)) out = answered;
  }
  return out;
}

// All values of an attribute, in an order of their own: "crew", "deck".
std::string values_of(const wire::PacketView& packet, const dictionary::Definition& attribute,
                      const dictionary::Catalogue& catalogue) {
  std::vector<std::string> out;
  condition::each_value(packet, attribute, catalogue, [&](OctetView value) {
    out.push_back(dictionary::print_value(attribute, value));
    return true;
  });
  std::sort(out.begin(), out.end());
  return out.empty() ? "nothing" : join(out, ", ");
}

}  // namespace

std::string mirror_name(const plan::Group& group) {
  return "group " + group.name;
}

std::string mirror_name(const plan::Route& route) {
  return "route " + route.name;
}

std::vector<MirrorTally> mirrors_in(const plan::Plan& plan) {
  std::vector<MirrorTally> out;
  const auto add = [&](const auto& from) {
    if (!from.mirror) return;
    MirrorTally& tally = out.emplace_back();
    tally.of = mirror_name(from);
    tally.to = plan.groups[from.mirror->group].name;
  };
  for (const plan::Group& group : plan.groups) add(group);
  for (const plan::Route& route : plan.routes) add(route);
  return out;
}

Mirroring::Mirroring(Random& random, Counters& counters, std::shared_ptr<const LoopMark> loop_mark,
                     std::size_t most)
    : random_(random),
      loop_mark_(std::move(loop_mark)),
      sent_(most),
      crossings_(*this, random, counters, {most, 100, 100}) {}

void Mirroring::offer(Actions::Copy copy, const Turn& turn) {
  owner_.check();
  const Ticket ticket = sent_.take();
  Sent* sent = sent_.get(ticket);
  if (sent == nullptr) return shed(copy);
  sent->copy = std::move(copy);
  const Story& story = *sent->copy.story;
  const wire::PacketView packet = *wire::PacketView::parse(story.request);
  sent->course.emplace(
      decide::Request{*story.live->plan, packet, *story.client, false, story.arrived},
      decide::HiddenValues{{story.client->secret_of(story.which_secret), packet.authenticator()}, random_},
      random_);
  (void)sent->course->begin();  // up to the point at which it was sent on
  const auto crossing =
      crossings_.start(ticket,
                       {story.live, sent->copy.mirror->group, wire::Code::access_request, nullptr,
                        asker_in(mirrored_to(sent->copy), *sent->course, story.client->name)},
                       turn);
  if (crossing) return;
  if (crossing.error().code == Errc::unreachable) {
    auto tallies = tallies_.lock();
    ++(*tallies)[{sent->copy.of, mirrored_to(sent->copy).name}].unanswered;
  } else {
    shed(sent->copy);
  }
  end(ticket);
}

void Mirroring::shed(const Actions::Copy& copy) {
  auto tallies = tallies_.lock();
  ++(*tallies)[{copy.of, mirrored_to(copy).name}].shed;
}

Status Mirroring::compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                          wire::PacketBuilder& out) {
  Sent& sent = *sent_.get(owner);
  const Story& story = *sent.copy.story;
  return put_onward(*sent.course, story.client->secret_of(story.which_secret),
                    {sent.copy.mirror->group, server, authenticator, loop_mark_->make(owner)}, out);
}

std::vector<Mirroring::Difference> Mirroring::differences(const Actions::Copy& copy,
                                                          const Crossings::Arrived& arrived) const {
  const Story& story = *copy.story;
  const plan::Plan& plan = *story.live->plan;
  const Given::Answered* answered = answer_in(story);
  if (answered == nullptr)
    return {{"code", fmt::format("no answer came from group {}, {} says {}", plan.groups[story.group].name,
                                 arrived.server_name, wire::name_of(arrived.reply.code()))}};
  const wire::PacketView theirs = *wire::PacketView::parse(answered->packet);
  const plan::Group& group = plan.groups[story.group];
  const std::string first = full_name(group, group.servers[answered->server]);
  if (theirs.code() != arrived.reply.code())
    return {{"code", fmt::format("{} says {}, {} {}", first, wire::name_of(theirs.code()),
                                 arrived.server_name, wire::name_of(arrived.reply.code()))}};
  std::vector<Difference> out;
  for (const dictionary::Definition* attribute : copy.mirror->compare) {
    const std::string one = values_of(theirs, *attribute, *plan.catalogue);
    const std::string other = values_of(arrived.reply, *attribute, *plan.catalogue);
    if (one != other)
      out.emplace_back(attribute->name, fmt::format("{}: {} says {}, {} {}", attribute->name, first, one,
                                                    arrived.server_name, other));
  }
  return out;
}

void Mirroring::on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn) {
  owner_.check();
  const auto arrived = crossings_.on_reply(lane, from, octets, turn);
  if (!arrived) return;
  const Actions::Copy& copy = sent_.get(arrived->owner)->copy;
  const std::vector<Difference> found = differences(copy, *arrived);
  {
    auto tallies = tallies_.lock();
    MirrorTally& tally = (*tallies)[{copy.of, mirrored_to(copy).name}];
    ++(found.empty() ? tally.same : tally.differed);
    for (const auto& [what, words] : found) ++tally.by_what[what];
    if (!found.empty()) {
      std::vector<std::string> words;
      for (const Difference& one : found) words.push_back(one.second);
      Event event = copy.event;
      event.at = turn.now.wall;
      event.outcome = Outcome::mirror_differs;
      event.server = arrived->server_name;
      event.because = "the mirror answers otherwise";
      event.detail = join(words, "; ");
      tally.examples.push_front({event.at, event.user, event.client, event.detail});
      if (tally.examples.size() > kMostExamples) tally.examples.pop_back();
      turn.out.events.push_back(std::move(event));
    }
  }
  end(arrived->owner);
}

void Mirroring::on_timer(const Turn& turn) {
  owner_.check();
  for (const Crossings::GivenUp& given_up : crossings_.on_timer(turn)) {
    const Actions::Copy& copy = sent_.get(given_up.owner)->copy;
    {
      auto tallies = tallies_.lock();
      ++(*tallies)[{copy.of, mirrored_to(copy).name}].unanswered;
    }
    end(given_up.owner);
  }
}

void Mirroring::end(Ticket ticket) {
  Sent& sent = *sent_.get(ticket);
  sent.course.reset();
  sent.copy = {};
  sent_.release(ticket);
}

std::vector<MirrorTally> Mirroring::tallies() const {
  std::vector<MirrorTally> out;
  auto tallies = tallies_.lock();
  for (const auto& [key, tally] : *tallies) {
    out.push_back(tally);
    out.back().of = key.first;
    out.back().to = key.second;
  }
  return out;
}

}  // namespace jembatan::engine
