#include "journal/tell.h"

#include <fmt/format.h>

#include "base/text.h"
#include "journal/again.h"
#include "journal/scrub.h"

namespace jembatan::journal {

using engine::Event;

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
  const engine::Story& story = *event.story;
  out.revision = story.live->revision;
  const dictionary::Catalogue& catalogue = *story.live->plan->catalogue;
  decide::Telling telling(decide::Telling::Of::done);
  telling.client(*story.client, event.source.address);
  Again again(story, &telling);
  (void)again.run();
  out.name = again.course().way().full_name;
  out.trail = std::move(telling.lines);
  out.trail.push_back(fmt::format("{} {}: {}", out.outcome, after_text(event.took), out.reason));
  if (!event.mend.empty()) out.trail.push_back(event.mend);
  out.request = without_secrets(*wire::PacketView::parse(story.request), catalogue);
  if (!story.reply.empty()) out.reply = without_secrets(*wire::PacketView::parse(story.reply), catalogue);
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
