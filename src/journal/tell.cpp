#include "journal/tell.h"

#include <fmt/format.h>

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
