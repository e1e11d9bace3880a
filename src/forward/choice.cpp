#include "forward/choice.h"

#include "forward/sticky.h"

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

// One that warms up passes some of its turns on.
std::size_t next_in_turn(const Candidates& of, Members tier, TimePoint now) {
  while (true) {
    const std::size_t next = of.spread.next(of.group, tier);
    if (tier.count() == 1 || of.health[next]->takes_turn(of.group, now)) return next;
    tier.reset(next);
  }
}

}  // namespace

Members members_in_turn(const plan::Group& group, const std::vector<HealthPtr>& health) {
  Members all;
  Members up;
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    all.set(i);
    up[i] = !health[i]->avoided(group);
  }
  return lowest_tier(group, up.any() ? up : all);
}

std::optional<std::size_t> choose(const Candidates& of, const Asker& asker, const Tried& tried,
                                  TimePoint now) {
  const plan::Group& group = of.group;
  // Mostly, all servers are well, and nothing has changed since the last choice.
  const std::uint16_t slot = slot_of(asker.sticks);
  if (!asker.began_at && tried.none()) {
    const auto next =
        asker.sticks == 0 ? of.spread.next_as_before(of.changes) : of.spread.kept(slot, of.changes);
    if (next) return next;
  }
  if (asker.began_at) return tried[*asker.began_at] ? std::nullopt : asker.began_at;
  Members left;
  Members askable;
  bool all_well = true;
  for (std::size_t i = 0; i < group.servers.size(); ++i) {
    if (tried[i]) continue;
    left.set(i);
    all_well = all_well && !of.health[i]->down() && of.health[i]->warmth(group, now) >= 1;
    // A server that is due to be tried again gets this request, whatever its weight: somebody has to try it.
    if (of.health[i]->try_now(group, now)) return i;
    askable[i] = !of.health[i]->avoided(group);
  }
  const Members tier = lowest_tier(group, askable.any() ? askable : left);
  if (tier.none()) return std::nullopt;
  if (asker.sticks != 0) {
    const std::size_t server = rendezvous(of, tier, slot, now);
    if (tried.none() && all_well) of.spread.keep(slot, server, of.changes);
    return server;
  }
  if (tried.none() && all_well) of.spread.settle(group, tier, of.changes);
  return next_in_turn(of, tier, now);
}

}  // namespace jembatan::forward
