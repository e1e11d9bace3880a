#include "journal/tell.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "engine/rehide.h"
#include "journal/scrub.h"

namespace jembatan::journal {
namespace {

using engine::Event;
using engine::Mark;
using engine::Story;

// Salts of values that nobody will see.
class NoRandom final : public Random {
 public:
  void fill(OctetSpan out) override { std::fill(out.begin(), out.end(), std::uint8_t{0}); }
};

std::string after_text(std::chrono::microseconds time) {
  if (time < std::chrono::microseconds(50)) return "at once";
  return fmt::format("after {:.1f} ms", static_cast<double>(time.count()) / 1000);
}

std::string mark_text(const Mark& mark, const Story& story) {
  const auto server = [&] {
    const plan::Group& group = story.live->plan->groups[story.group];
    return group.name + "/" + group.servers[mark.server].name;
  };
  const std::string when = after_text(mark.after) + ": ";
  switch (mark.what) {
    case Mark::What::compared:
      return when + "the password was compared";
    case Mark::What::asked:
      return when + "asked " + server();
    case Mark::What::asked_again:
      return when + "asked " + server() + " again";
    case Mark::What::answered:
      return when + server() + " answered";
  }
  return when;
}

decide::Request request_of(const Story& story, const wire::PacketView& packet) {
  return {*story.live->plan, packet, *story.client, packet.code() == wire::Code::accounting_request,
          story.arrived};
}

// The steps as `explain` tells them, then what happened at other servers, then how it ended.
std::vector<std::string> trail_of(const Event& event, const Story& story, const wire::PacketView& packet) {
  decide::Known known;
  known.assume = story.assume;
  const std::string reason = engine::reason_text(event);
  known.because = reason;
  known.said = story.assume == decide::Assume::refused ? known.because : "right";
  known.from = event.source.address;
  NoRandom no_random;
  const engine::HiddenWith with{story.client->secret_of(story.which_secret), packet.authenticator()};
  known.hidden = engine::hidden_values(with, no_random);
  std::vector<std::string> out = decide::explain(request_of(story, packet), known).lines;
  for (const Mark& mark : story.marks) out.push_back(mark_text(mark, story));
  out.insert(out.end(), story.notes.begin(), story.notes.end());
  out.push_back(fmt::format("{} {}: {}", engine::name_of(event.outcome), after_text(event.took), reason));
  return out;
}

}  // namespace

Entry entry_of(const Event& event) {
  Entry out;
  out.number = event.number;
  out.at = event.at;
  out.outcome = engine::name_of(event.outcome);
  out.packet = event.code == wire::Code{} ? "" : wire::name_of(event.code);
  out.client = event.client;
  out.source = event.source.text();
  out.user = escaped(event.user);
  out.realm = escaped(event.realm);
  out.server = event.server;
  out.reason = engine::reason_text(event);
  out.took = event.took;
  out.name = event.user;
  if (event.story == nullptr) {
    out.trail = {fmt::format("{}: {}", out.outcome, out.reason)};
    if (!event.mend.empty()) out.trail.push_back(event.mend);
    return out;
  }
  const Story& story = *event.story;
  out.revision = story.live->revision;
  const dictionary::Catalogue& catalogue = *story.live->plan->catalogue;
  const wire::PacketView request = *wire::PacketView::parse(story.request);
  out.name = decide::identify(request_of(story, request)).full_name;
  out.trail = trail_of(event, story, request);
  if (!event.mend.empty()) out.trail.push_back(event.mend);
  out.request = without_secrets(request, catalogue);
  if (!story.reply.empty()) out.reply = without_secrets(*wire::PacketView::parse(story.reply), catalogue);
  return out;
}

bool holds_for(const condition::Condition& condition, const Event& event) {
  if (event.story == nullptr) return false;
  const Story& story = *event.story;
  const wire::PacketView packet = *wire::PacketView::parse(story.request);
  const decide::Request request = request_of(story, packet);
  const decide::Way way = decide::find_way(request);
  condition::Facts facts = decide::facts_of(request, way, story.live->plan->user_named(way.full_name));
  facts.server = event.server;
  if (way.destination.handling == plan::Handling::forward)
    facts.group = story.live->plan->groups[way.destination.group].name;
  return condition.holds(facts);
}

}  // namespace jembatan::journal
