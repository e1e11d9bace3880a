#include "decide/compose.h"

#include <algorithm>

#include "decide/assign.h"

namespace jembatan::decide {
namespace {

class Composing {
 public:
  Composing(const condition::Facts& facts, const ComposeTools& tools)
      : facts_(facts), hidden_(tools.hidden), parts_(tools.parts) {
    taken_.reserve(kFew);
    out_.reserve(kFew * 16);
  }

  // Attributes that an earlier owner has are not taken again; one owner may have several of a kind.
  void take(const plan::Assignments& assignments, ReplyPart::From from, std::string_view owner) {
    const std::size_t earlier = taken_.size();
    for (const plan::Assignment& assignment : assignments) {
      const auto end = taken_.begin() + static_cast<std::ptrdiff_t>(earlier);
      const bool there = std::any_of(
          taken_.begin(), end, [&](const plan::Assignment* other) { return other->path == assignment.path; });
      if (there) continue;
      if (assignment.is_fixed()) {  // nearly all are
        taken_.push_back(&assignment);
        append(out_, assignment.fixed);
        if (parts_ != nullptr) parts_->push_back({from, owner, &assignment, assignment.fixed, {}});
        continue;
      }
      auto made = made_of(assignment, facts_, {}, [this](dictionary::Hiding hiding, OctetView value) {
        return hidden_.hide(hiding, value);
      });
      if (made) {
        taken_.push_back(&assignment);
        append(out_, *made);
      }
      if (parts_ != nullptr)
        parts_->push_back({from, owner, &assignment, made ? *made : Octets{}, made ? "" : made.error().text});
    }
  }

  void message(const plan::AccessRule& rule) {
    const Octets made = reply_message(rule.message);
    append(out_, made);
    if (parts_ != nullptr && !made.empty())
      parts_->push_back({ReplyPart::From::rule, rule.name, nullptr, made, {}});
  }

  Octets result() { return std::move(out_); }

 private:
  static constexpr std::size_t kFew = 16;
  const condition::Facts& facts_;
  HiddenValues& hidden_;
  std::vector<ReplyPart>* parts_;
  std::vector<const plan::Assignment*> taken_;
  Octets out_;
};

}  // namespace

Octets compose_reply(const plan::Plan& plan, const condition::Facts& facts, const Granted& granted,
                     const ComposeTools& tools) {
  Composing composing(facts, tools);
  if (granted.subject != nullptr && granted.subject->reply != nullptr) {
    const Subject& subject = *granted.subject;
    if (subject.reply_of.empty()) {
      composing.take(*subject.reply, ReplyPart::From::user, subject.name);
    } else {
      composing.take(*subject.reply, ReplyPart::From::directory, subject.reply_of);
    }
  }
  const plan::AccessRule* rule = granted.rule;
  const bool permits = granted.code != wire::Code::access_reject;
  if (rule == nullptr || rule->permit != permits) return composing.result();
  composing.take(rule->reply, ReplyPart::From::rule, rule->name);
  for (const std::size_t set : rule->also)
    composing.take(plan.reply_sets[set].reply, ReplyPart::From::set, plan.reply_sets[set].name);
  composing.message(*rule);
  return composing.result();
}

Octets reply_message(std::string_view text) {
  Octets out;
  if (!text.empty()) wire::append_attribute(out, wire::AttributeType::reply_message, view_of(text));
  return out;
}

}  // namespace jembatan::decide
