#include "decide/compose.h"

#include <algorithm>

#include "decide/assign.h"

namespace jembatan::decide {
namespace {

class Composing {
 public:
  Composing(const condition::Facts& facts, const dictionary::Hide& hide, std::vector<ReplyPart>* parts)
      : facts_(facts), hide_(hide), parts_(parts) {}

  // Attributes that an earlier owner has are not taken again; one owner may have several of a kind.
  void take(const plan::Assignments& assignments, ReplyPart::From from, std::string_view owner) {
    const std::size_t earlier = taken_.size();
    for (const plan::Assignment& assignment : assignments) {
      const auto end = taken_.begin() + static_cast<std::ptrdiff_t>(earlier);
      const bool there = std::any_of(
          taken_.begin(), end, [&](const plan::Assignment* other) { return other->path == assignment.path; });
      if (there) continue;
      auto made = made_of(assignment, facts_, {}, hide_);
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
  const condition::Facts& facts_;
  const dictionary::Hide& hide_;
  std::vector<ReplyPart>* parts_;
  std::vector<const plan::Assignment*> taken_;
  Octets out_;
};

}  // namespace

Octets compose_reply(const plan::Plan& plan, const condition::Facts& facts, const plan::User* user,
                     const plan::AccessRule* rule, wire::Code code, const dictionary::Hide& hide,
                     std::vector<ReplyPart>* parts) {
  Composing composing(facts, hide, parts);
  if (user != nullptr) composing.take(user->reply, ReplyPart::From::user, user->name);
  const bool permits = code != wire::Code::access_reject;
  if (rule == nullptr || rule->permit != permits) return composing.result();
  composing.take(rule->reply, ReplyPart::From::rule, rule->name);
  for (const std::size_t set : rule->also)
    composing.take(plan.reply_sets[set].reply, ReplyPart::From::set, plan.reply_sets[set].name);
  composing.message(*rule);
  return composing.result();
}

Octets reply_message(std::string_view text) {
  Octets out;
  if (text.empty()) return out;
  out.push_back(static_cast<std::uint8_t>(wire::AttributeType::reply_message));
  out.push_back(static_cast<std::uint8_t>(text.size() + wire::kAttributeHeader));
  append(out, view_of(text));
  return out;
}

}  // namespace jembatan::decide
