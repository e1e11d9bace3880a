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

// What each server is to get: of those of the lowest priority with one that is up, by weight. What those that
// warm up do not take, the others share.
std::vector<double> wanted_of(const plan::Group& group, const std::vector<HealthPtr>& health, TimePoint now) {
  const std::vector<std::uint32_t> weights = weights_of(group);
  const Members members = members_in_turn(group, health);
  std::vector<double> out(group.servers.size());
  double total = 0;
  for (std::size_t i = 0; i < out.size(); ++i) total += members[i] ? weights[i] : 0;
  double taken = 0;
  double warm = 0;
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (!members[i]) continue;
    const double share = total == 0 ? 1.0 / static_cast<double>(members.count()) : weights[i] / total;
    out[i] = share * health[i]->warmth(group, now);
    taken += out[i];
    if (out[i] == share) warm += share;
  }
  for (std::size_t i = 0; i < out.size(); ++i) {
    if (taken == 0 || taken == 1) break;
    if (warm == 0) {
      out[i] /= taken;
    } else if (health[i]->warmth(group, now) == 1) {
      out[i] *= (warm + 1 - taken) / warm;
    }
  }
  return out;
}

void add(const LivePlan& live, std::size_t place, Purpose purpose, Now now, std::vector<Standing>& out) {
  const plan::Group& group = live.plan->groups[place];
  const auto& health = live.health_of(place, purpose);
  const std::vector<double> wanted = wanted_of(group, health, now.steady);
  std::uint64_t requests = 0;
  const auto given = [&](std::size_t i) { return live.chosen_count(place, purpose, i).load(); };
  for (std::size_t i = 0; i < health.size(); ++i) requests += given(i);
  if (requests == 0 && !uses(*live.plan, place, purpose)) return;
  for (std::size_t i = 0; i < health.size(); ++i) {
    const ServerHealth& one = *health[i];
    Standing standing;
    standing.group = &group;
    standing.server = &group.servers[i];
    standing.purpose = purpose;
    standing.state = one.state();
    if (standing.state != ServerHealth::State::doubted) standing.since = one.since();
    if (standing.state != ServerHealth::State::up) standing.why = one.why(group, now);
    standing.last_answer = one.last_answer();
    standing.requests = given(i);
    standing.attempts = one.asked_count();
    standing.answers = one.answered_count();
    standing.in_flight = one.in_flight();
    standing.recent = one.recent();
    standing.median = one.times().within(0.5, now.steady);
    standing.p99 = one.times().within(0.99, now.steady);
    standing.wanted = wanted[i];
    if (requests > 0) standing.share = static_cast<double>(standing.requests) / static_cast<double>(requests);
    out.push_back(std::move(standing));
  }
}

}  // namespace

bool uses(const plan::Plan& plan, std::size_t group, Purpose purpose) {
  const bool access = purpose == Purpose::access;
  const plan::RealmDefault& others = plan.realm_default;
  const bool by_default = access || !others.accounting
                              ? leads_to(others.unknown, group) || leads_to(others.missing, group)
                              : sends(*others.accounting, group);
  if (by_default || (access && plan.is_mirror(group))) return true;
  return std::any_of(plan.routes.begin(), plan.routes.end(),
                     [&](const plan::Route& route) {
                       return leads_to(route.destination, group) &&
                              (access ? route.access : route.accounting);
                     }) ||
         std::any_of(plan.realms.begin(), plan.realms.end(), [&](const plan::Realm& realm) {
           return access ? leads_to(realm.access, group) : sends(realm.accounting, group);
         });
}

std::string_view name_of(ServerHealth::State state) {
  static constexpr std::array<std::string_view, 3> kNames{"up", "doubted", "down"};
  return kNames[static_cast<std::size_t>(state)];
}

std::vector<Standing> standings(const LivePlan& live, Now now) {
  std::vector<Standing> out;
  for (std::size_t i = 0; i < live.plan->groups.size(); ++i) {
    for (const Purpose purpose : kPurposesOfGroups) add(live, i, purpose, now, out);
  }
  return out;
}

}  // namespace jembatan::forward
