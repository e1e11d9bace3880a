#include "forward/choice.h"

#include <algorithm>

namespace jembatan::forward {
namespace {

// The servers of the lowest priority among the candidates, and their weights added up.
struct Tier {
  Tried members;
  std::uint32_t weight = 0;
};

Tier lowest_tier(const plan::Group& group, const Tried& candidates) {
  Tier tier;
  unsigned priority = 65536;
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    if (!candidates[i] || group.servers[i].priority > priority) continue;
    if (group.servers[i].priority < priority) tier = {};
    priority = group.servers[i].priority;
    tier.members.set(i);
    tier.weight += group.servers[i].weight;
  }
  return tier;
}

std::size_t pick_by_weight(const plan::Group& group, const Tier& tier, Random& random) {
  const auto share = [&](std::size_t i) {
    return tier.weight == 0 ? 1U : std::uint32_t{group.servers[i].weight};
  };
  const std::uint32_t total =
      tier.weight == 0 ? static_cast<std::uint32_t>(tier.members.count()) : tier.weight;
  std::uint32_t left = total > 1 ? random.below(total) : 0;
  std::size_t chosen = 0;
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    if (!tier.members[i]) continue;
    if (left < share(i)) return i;
    left -= share(i);
    chosen = i;
  }
  return chosen;
}

}  // namespace

std::optional<std::size_t> choose(const Candidates& of, const Tried& tried, Random& random, TimePoint now) {
  const auto& [group, health] = of;
  Tried left;
  for (std::size_t i = 0; i < group.servers.size(); ++i) left[i] = !tried[i];
  Tried askable;
  for (std::size_t i = 0; i < group.servers.size(); ++i) askable[i] = left[i] && !health[i]->down();
  // A server that is due to be tried again gets this request, whatever its weight: somebody has to try it.
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    if (left[i] && health[i]->down() && health[i]->may_ask(group, now)) return i;
  }
  const Tier tier = lowest_tier(group, askable.any() ? askable : left);
  if (tier.members.none()) return std::nullopt;
  return pick_by_weight(group, tier, random);
}

}  // namespace jembatan::forward
