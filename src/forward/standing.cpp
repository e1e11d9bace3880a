#include "forward/standing.h"

#include <algorithm>
#include <array>

namespace jembatan::forward {
namespace {

using plan::Handling;

bool leads_to(const plan::Destination& destination, std::size_t group) {
  return destination.handling == Handling::forward && destination.group == group;
}

bool sends(const plan::AccountingRule& rule, std::size_t group) {
  return std::find(rule.groups.begin(), rule.groups.end(), group) != rule.groups.end();
}

// Whether the plan sends requests of that kind to the group.
bool uses(const plan::Plan& plan, std::size_t group, Purpose purpose) {
  const bool access = purpose == Purpose::access;
  const plan::RealmDefault& others = plan.realm_default;
  const bool by_default = access || !others.accounting
                              ? leads_to(others.unknown, group) || leads_to(others.missing, group)
                              : sends(*others.accounting, group);
  if (by_default) return true;
  return std::any_of(plan.routes.begin(), plan.routes.end(),
                     [&](const plan::Route& route) {
                       return leads_to(route.destination, group) &&
                              (access ? route.access : route.accounting);
                     }) ||
         std::any_of(plan.realms.begin(), plan.realms.end(), [&](const plan::Realm& realm) {
           return access ? leads_to(realm.access, group) : sends(realm.accounting, group);
         });
}

// What each server is to get: of those of the lowest priority with one that is up, by weight.
std::vector<double> wanted_of(const plan::Group& group, const std::vector<HealthPtr>& health) {
  const std::vector<std::uint32_t> weights = weights_of(group);
  const Members members = members_in_turn(group, health);
  std::vector<double> out(group.servers.size());
  double total = 0;
  for (std::size_t i = 0; i < out.size(); ++i) total += members[i] ? weights[i] : 0;
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (!members[i]) continue;
    out[i] = total == 0 ? 1.0 / static_cast<double>(members.count()) : weights[i] / total;
  }
  return out;
}

void add(const LivePlan& live, std::size_t place, Purpose purpose, Now now, std::vector<Standing>& out) {
  const plan::Group& group = live.plan->groups[place];
  const auto& health = live.health_of(place, purpose);
  const std::vector<double> wanted = wanted_of(group, health);
  std::uint64_t requests = 0;
  for (const HealthPtr& one : health) requests += one->chosen_count();
  if (requests == 0 && !uses(*live.plan, place, purpose)) return;
  for (std::size_t i = 0; i < health.size(); ++i) {
    const ServerHealth& one = *health[i];
    Standing standing;
    standing.group = &group;
    standing.server = &group.servers[i];
    standing.purpose = purpose;
    standing.state = one.state();
    if (standing.state != ServerHealth::State::doubted) standing.since = one.since();
    if (standing.state != ServerHealth::State::up) standing.why = one.why(now);
    standing.requests = one.chosen_count();
    standing.attempts = one.asked_count();
    standing.answers = one.answered_count();
    standing.wanted = wanted[i];
    if (requests > 0) standing.share = static_cast<double>(standing.requests) / static_cast<double>(requests);
    out.push_back(std::move(standing));
  }
}

}  // namespace

std::string_view name_of(ServerHealth::State state) {
  static constexpr std::array<std::string_view, 3> kNames{"up", "doubted", "down"};
  return kNames[static_cast<std::size_t>(state)];
}

std::vector<Standing> standings(const LivePlan& live, Now now) {
  std::vector<Standing> out;
  for (std::size_t i = 0; i < live.plan->groups.size(); ++i) {
    for (const Purpose purpose : {Purpose::access, Purpose::accounting}) add(live, i, purpose, now, out);
  }
  return out;
}

}  // namespace jembatan::forward
