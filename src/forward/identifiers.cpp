#include "forward/identifiers.h"

namespace jembatan::forward {

std::optional<ExchangeId> Identifiers::take(const Endpoint& server, Owner owner) {
  PerServer& at = servers_[server];
  if (at.used * 2 >= at.lanes.size() * 256 && at.lanes.size() < kMostLanes)
    at.lanes.emplace_back().fill(kFree);
  const std::size_t all = at.lanes.size() * 256;
  if (at.used == all) return std::nullopt;
  while (at.lanes[at.next % all / 256][at.next % 256] != kFree) ++at.next;
  const std::size_t place = at.next++ % all;
  at.lanes[place / 256][place % 256] = owner;
  ++at.used;
  return ExchangeId{static_cast<std::uint16_t>(place / 256), static_cast<std::uint8_t>(place % 256)};
}

std::optional<Identifiers::Owner> Identifiers::owner_of(const Endpoint& server, ExchangeId id) const {
  const auto found = servers_.find(server);
  if (found == servers_.end() || id.lane >= found->second.lanes.size()) return std::nullopt;
  const Owner owner = found->second.lanes[id.lane][id.identifier];
  if (owner == kFree) return std::nullopt;
  return owner;
}

void Identifiers::release(const Endpoint& server, ExchangeId id) {
  const auto found = servers_.find(server);
  if (found == servers_.end() || id.lane >= found->second.lanes.size()) return;
  Owner& owner = found->second.lanes[id.lane][id.identifier];
  if (owner == kFree) return;
  owner = kFree;
  --found->second.used;
}

}  // namespace jembatan::forward
