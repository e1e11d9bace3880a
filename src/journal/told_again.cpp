#include "journal/told_again.h"

#include <algorithm>

#include "journal/scrub.h"

namespace jembatan::journal {
namespace {

using condition::Comparison;
using condition::Condition;
using condition::Quantity;
using dictionary::Definition;

// Looks for a secret value that something depends on.
class Looking {
 public:
  explicit Looking(const dictionary::Catalogue& catalogue) : catalogue_(catalogue) {}

  bool secret(const Definition* attribute) const {
    return attribute != nullptr && is_secret(attribute->path, catalogue_);
  }
  // Whether it is there, and how often, is kept.
  bool in(const Condition& condition) const {
    const auto& tests = condition.tests();
    return std::any_of(tests.begin(), tests.end(), [this](const condition::Test& test) {
      return secret(test.attribute) && test.quantity != Quantity::count &&
             test.comparison != Comparison::present;
    });
  }
  bool in(const plan::Assignments& assignments) const {
    return std::any_of(assignments.begin(), assignments.end(), [this](const plan::Assignment& one) {
      if (!one.text) return false;
      const auto places = one.text->attributes();
      return std::any_of(places.begin(), places.end(),
                         [this](const Definition* place) { return secret(place); });
    });
  }
  bool in(const plan::Edit& edit) const {
    const auto moved = [this](const plan::Edit::Pair& pair) { return secret(pair.first); };
    return (edit.when && in(*edit.when)) || in(edit.sets) || in(edit.adds) ||
           std::any_of(edit.copies.begin(), edit.copies.end(), moved) ||
           std::any_of(edit.renames.begin(), edit.renames.end(), moved) ||
           std::any_of(edit.rewrites.begin(), edit.rewrites.end(),
                       [this](const auto& rewrite) { return secret(rewrite.attribute); });
  }

 private:
  const dictionary::Catalogue& catalogue_;
};

template <class All, class Looks>
bool any(const All& all, Looks looks) {
  return std::any_of(all.begin(), all.end(), looks);
}

}  // namespace

bool can_be_told_again(const plan::Plan& plan) {
  const Looking looking(*plan.catalogue);
  return !plan.asks_sessions &&  // how many there were then is not kept
         !any(plan.routes, [&](const plan::Route& route) { return looking.in(route.when); }) &&
         !any(plan.access_rules,
              [&](const plan::AccessRule& rule) {
                return (rule.when && looking.in(*rule.when)) ||
                       (rule.factors_unless && looking.in(*rule.factors_unless)) || looking.in(rule.reply);
              }) &&
         !any(plan.reply_sets, [&](const plan::ReplySet& set) { return looking.in(set.reply); }) &&
         !any(plan.users, [&](const plan::User& user) { return looking.in(user.reply); }) &&
         !any(plan.directories,
              [&](const plan::Directory& directory) { return looking.in(directory.reply); }) &&
         !any(plan.edits, [&](const plan::Edit& edit) { return looking.in(edit); });
}

}  // namespace jembatan::journal
