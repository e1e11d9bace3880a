#include "forward/choice.h"

namespace jembatan::forward {
namespace {

// The servers of the lowest priority among the candidates.
Members lowest_tier(const plan::Group& group, const Members& candidates) {
  Members tier;
  unsigned priority = 65536;
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    if (!candidates[i] || group.servers[i].priority > priority) continue;
    if (group.servers[i].priority < priority) tier.reset();
    priority = group.servers[i].priority;
    tier.set(i);
  }
  return tier;
}

}  // namespace

Members members_in_turn(const plan::Group& group, const std::vector<HealthPtr>& health) {
  Members all;
  Members up;
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    all.set(i);
    up[i] = !health[i]->down();
  }
  return lowest_tier(group, up.any() ? up : all);
}

std::optional<std::size_t> choose(const Candidates& of, const Tried& tried, TimePoint now) {
  const plan::Group& group = of.group;
  Members left;
  Members askable;
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    left[i] = !tried[i];
    const bool down = of.health[i]->down();
    askable[i] = left[i] && !down;
    // A server that is due to be tried again gets this request, whatever its weight: somebody has to try it.
    if (left[i] && down && of.health[i]->may_ask(group, now)) return i;
  }
  const Members tier = lowest_tier(group, askable.any() ? askable : left);
  if (tier.none()) return std::nullopt;
  return of.spread.next(group, tier);
}

}  // namespace jembatan::forward
