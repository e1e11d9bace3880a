#include "decide/edits.h"

#include <fmt/format.h>
#include <re2/re2.h>

#include "base/text.h"
#include "condition/values.h"
#include "decide/assign.h"
#include "decide/packet_edit.h"
#include "dictionary/describe.h"
#include "dictionary/value_text.h"

namespace jembatan::decide {
namespace {

using dictionary::Definition;
using dictionary::Hiding;

// One edit on one packet. What it changes is kept only if all of it can be done.
class Editing {
 public:
  Editing(const plan::Edit& edit, const condition::Facts& facts, const EditTools& tools)
      : edit_(edit),
        facts_(facts),
        hidden_(tools.hidden),
        tell_(tools.lines != nullptr),
        packet_(*facts.packet, *facts.catalogue) {}

  // Empty if it was done, otherwise why not.
  std::string run() {
    if (edit_.when) edit_.when->capture(facts_, captures_);
    for (const plan::Edit::Rewrite& rewrite : edit_.rewrites) {
      if (const std::string why = match(rewrite); !why.empty()) return why;
    }
    Status done;
    for (const auto& [from, to] : edit_.copies) done = done ? bring(*from, *to, false) : done;
    for (const auto& [from, to] : edit_.renames) done = done ? bring(*from, *to, true) : done;
    for (const Definition* attribute : edit_.removes) {
      if (packet_.remove(*attribute) != PacketEdit::npos) did("removed " + attribute->name);
    }
    std::vector<const Definition*> set;
    for (const plan::Assignment& assignment : edit_.sets) {
      const bool again = std::find(set.begin(), set.end(), assignment.attribute) != set.end();
      if (done) done = assign(assignment, !again);
      set.push_back(assignment.attribute);
    }
    for (const plan::Assignment& assignment : edit_.adds) done = done ? assign(assignment, false) : done;
    return done ? "" : done.error().text;
  }

  Octets take() { return packet_.take(); }
  std::string changes() const { return changes_.empty() ? "nothing to change" : join(changes_, ", "); }

 private:
  void did(std::string what) {
    if (tell_) changes_.push_back(std::move(what));
  }

  // The value in clear; nothing if it is hidden and cannot be opened.
  std::optional<Octets> clear(const Definition& attribute, const Octets& value) const {
    if (attribute.hiding == Hiding::none) return value;
    auto opened = hidden_.open(attribute.hiding, value);
    return opened ? std::optional(std::move(*opened)) : std::nullopt;
  }

  std::string match(const plan::Edit::Rewrite& rewrite) {
    const std::vector<Octets> values = packet_.values(*rewrite.attribute);
    if (values.empty()) return rewrite.attribute->name + " is not there";
    auto value = clear(*rewrite.attribute, values.front());
    if (!value) return rewrite.attribute->name + " is hidden, and cannot be opened here";
    const std::string_view text = jembatan::text_of(*value);
    const bool matches = re2::RE2::PartialMatch({text.data(), text.size()}, *rewrite.pattern);
    if (matches) condition::capture(*rewrite.pattern, text, captures_);
    if (rewrite.attribute->hiding != Hiding::none) wipe(*value);
    return matches ? "" : fmt::format("{} does not match {}", rewrite.attribute->name, rewrite.source);
  }

  // Hidden values move as they are: they are hidden for the packet, not for the attribute.
  Status bring(const Definition& from, const Definition& to, bool away) {
    const std::vector<Octets> values = packet_.values(from);
    if (values.empty()) return {};
    const std::size_t at = away ? packet_.remove(from) : PacketEdit::npos;
    Octets all;
    for (const Octets& value : values) {
      const auto made = dictionary::wrap(*facts_.catalogue, to, value);
      if (!made) return made.error();
      append(all, *made);
    }
    did(fmt::format("{} {} {} {}", away ? "renamed" : "copied", from.name, away ? "to" : "as", to.name));
    return packet_.insert(at, all);
  }

  Status assign(const plan::Assignment& assignment, bool instead) {
    const auto made = made_of(assignment, facts_, captures_,
                              [this](Hiding hiding, OctetView value) { return hidden_.hide(hiding, value); });
    if (!made) return made.error().at(assignment.name);
    const std::size_t at =
        instead && assignment.attribute != nullptr ? packet_.remove(*assignment.attribute) : PacketEdit::npos;
    if (tell_) tell(*made, instead);
    return packet_.insert(at, *made);
  }

  void tell(OctetView attributes, bool instead) {
    for (const auto& line : dictionary::describe(*facts_.catalogue, attributes)) {
      if (line.definition != nullptr && line.definition->type == dictionary::DataType::vsa) continue;
      did(fmt::format("{} {} {}", instead ? "set" : "added", line.name, line.value));
    }
  }

  const plan::Edit& edit_;
  const condition::Facts& facts_;
  HiddenValues& hidden_;
  const bool tell_;
  PacketEdit packet_;
  condition::Captures captures_;
  std::vector<std::string> changes_;
};

bool concerns(const plan::Edit& edit, plan::EditPoint point, const condition::Facts& facts) {
  return edit.at == point && (facts.listener == "accounting" ? edit.accounting : edit.access);
}

}  // namespace

std::optional<Octets> apply_edits(const plan::Plan& plan, plan::EditPoint point, condition::Facts facts,
                                  const EditTools& tools) {
  std::optional<Octets> out;
  std::optional<wire::PacketView> changed;  // of `out`
  for (std::size_t i = 0; i < plan.edits.size(); ++i) {
    const plan::Edit& edit = plan.edits[i];
    if (!concerns(edit, point, facts)) continue;
    const auto say = [&](const std::string& text) {
      if (tools.lines != nullptr)
        tools.lines->push_back(fmt::format("edit {} '{}' ({}): {}", i + 1, edit.name, name_of(point), text));
    };
    std::size_t decided_by = 0;
    if (edit.when && !edit.when->holds(facts, &decided_by)) {
      if (tools.lines != nullptr) say("no, " + edit.when->text_of(decided_by, facts));
      continue;
    }
    Editing editing(edit, facts, tools);
    if (const std::string why_not = editing.run(); !why_not.empty()) {
      say("not done, " + why_not);
      continue;
    }
    say(editing.changes());
    out = editing.take();
    changed.emplace(*wire::PacketView::parse(*out));
    facts.packet = &*changed;
  }
  return out;
}

}  // namespace jembatan::decide
