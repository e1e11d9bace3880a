// Advice about second factors, and who has which.
#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "plan/advice.h"

namespace jembatan::plan {
namespace {

// The first access rule that asks for a factor; null: none does.
const AccessRule* asking_for(const Plan& plan, std::size_t factor) {
  const auto found =
      std::find_if(plan.access_rules.begin(), plan.access_rules.end(), [&](const AccessRule& rule) {
        return std::find(rule.factors.begin(), rule.factors.end(), factor) != rule.factors.end();
      });
  return found == plan.access_rules.end() ? nullptr : &*found;
}

// Nobody signs in by this name, as far as the plan knows.
bool is_nobody(const Plan& plan, const std::string& user) {
  if (plan.user_named(user) != nullptr) return false;
  const std::size_t at = user.rfind('@');
  const Realm* realm = at == std::string::npos ? nullptr : plan.realm_named(user.substr(at + 1));
  return realm == nullptr || (realm->access.handling == Handling::here && !realm->directory);
}

}  // namespace

void advise_of_factors(const Plan& plan, const Places& places,
                       const std::function<void(const Place&, const Advice&)>& report) {
  for (std::size_t i = 0; i < plan.factors.size(); ++i) {
    const Factor& factor = plan.factors[i];
    const AccessRule* asks = asking_for(plan, i);
    const bool has_tokens = std::any_of(plan.enrolments.begin(), plan.enrolments.end(),
                                        [i](const Enrolment& one) { return one.factor == i; });
    if (asks == nullptr)
      report(places.factors[i],
             {"unused-factor", fmt::format("no access rule asks for factor '{}'", factor.name),
              fmt::format("factors = [\"{}\"] of an access rule that permits", factor.name)});
    if (asks != nullptr && !has_tokens)
      report(places.factors[i],
             {"no-token",
              fmt::format("nobody has a token for factor '{}': access rule '{}' lets nobody in", factor.name,
                          asks->name),
              "jembatan user factor enrol USER"});
  }
  for (std::size_t i = 0; i < plan.enrolments.size(); ++i) {
    const Enrolment& one = plan.enrolments[i];
    if (is_nobody(plan, one.user))
      report(places.enrolments[i], {"token-of-nobody",
                                    fmt::format("token '{}' is of '{}', and the plan has nobody of this name",
                                                one.token.name, escaped(one.user)),
                                    "the user's name, with the realm"});
  }
}

}  // namespace jembatan::plan
