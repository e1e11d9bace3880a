#include "journal/tell.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "journal/again.h"

namespace jembatan::journal {

using engine::Event;
using engine::Story;

namespace {

// What was sent is kept; if the course taken again does not lead there, nobody should believe it.
void doubt(const decide::Next& next, const Story& story, std::vector<std::string>& lines) {
  if (story.reply.empty()) return;
  const wire::Code sent = wire::PacketView::parse(story.reply)->code();
  if (next.what == decide::Next::What::reply && next.code == sent) return;
  lines.push_back(fmt::format("told again from what is kept, this does not lead to the {} that was sent",
                              wire::name_of(sent)));
}

// The packets that were sent to servers. An answer belongs to the last one that its server got.
std::vector<Entry::Leg> legs_of(const Story& story) {
  std::vector<Entry::Leg> out;
  const auto name_of = [&story](std::uint16_t server) {
    const plan::Group& group = story.live->plan->groups[story.group];
    return group.name + "/" + group.servers[server].name;
  };
  for (const engine::Given& given : story.given) {
    if (const auto* asked = std::get_if<engine::Given::Asked>(&given.what)) {
      if (asked->again && !out.empty() && out.back().leg == asked->leg) {
        ++out.back().times;
      } else {
        out.push_back({name_of(asked->server), asked->leg, given.after, std::nullopt, 1});
      }
    } else if (const auto* answered = std::get_if<engine::Given::Answered>(&given.what)) {
      const auto leg = std::find_if(out.rbegin(), out.rend(), [&](const Entry::Leg& one) {
        return one.server == name_of(answered->server);
      });
      if (leg != out.rend()) leg->answered = given.after;
    }
  }
  return out;
}

void tell_story(const Record& record, const PlanOf& plans, Entry& out) {
  const auto plan = plans(record.revision);
  const auto kept = plan ? story_of(record, *plan) : Result<KeptStory>(plan.error());
  if (!kept) {
    out.trail.push_back(fmt::format("plan revision {}: {}: the steps cannot be told any more",
                                    record.revision, kept.error().text));
    return;
  }
  out.request = kept->story.request;
  out.reply = kept->story.reply;
  out.legs = legs_of(kept->story);
  for (const engine::Given& given : kept->story.given) {
    if (const auto* accounted = std::get_if<decide::Kept>(&given.what)) out.record = accounted->record;
  }
  if (kept->words.empty()) {
    out.trail = steps_of(kept->story, record.source.address);
  } else {
    for (const std::string_view line : split(kept->words, '\n')) out.trail.emplace_back(line);
  }
}

}  // namespace

std::vector<std::string> steps_of(const Story& story, const IpAddress& source) {
  decide::Telling telling(decide::Telling::Of::done);
  telling.client(*story.client, source);
  Again again(story, &telling);
  const decide::Next end = again.run();
  doubt(end, story, telling.lines);
  return std::move(telling.lines);
}

Entry heading_of(const Record& record) {
  Entry out;
  out.number = record.number;
  out.at = record.at;
  out.outcome = engine::name_of(record.outcome);
  out.packet = record.code == wire::Code{} ? "" : wire::name_of(record.code);
  out.client = record.client;
  out.source = record.source.text();
  out.user = escaped(record.user);
  out.realm = escaped(record.realm);
  out.server = record.server;
  out.reason = record.reason;
  out.took = record.took;
  out.revision = record.revision;
  out.leg = record.leg;
  return out;
}

Entry entry_of(const Record& record, const PlanOf& plans) {
  Entry out = heading_of(record);
  if (record.story.empty()) {
    out.trail = {fmt::format("{}: {}", out.outcome, out.reason)};
  } else {
    tell_story(record, plans, out);
    out.trail.push_back(fmt::format("{} {}: {}", out.outcome, after_text(record.took), out.reason));
  }
  if (!record.mend.empty()) out.trail.emplace_back(record.mend);
  return out;
}

bool holds_for(const condition::Condition& condition, const Event& event) {
  if (event.story == nullptr) return false;
  Again again(*event.story);
  (void)again.run();
  condition::Facts facts = again.course().facts();
  facts.server = event.server;
  return condition.holds(facts);
}

}  // namespace jembatan::journal
