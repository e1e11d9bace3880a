#pragma once
#include <bitset>
#include <optional>

#include "base/random.h"
#include "forward/health.h"

namespace jembatan::forward {

using Tried = std::bitset<plan::kMostServers>;

struct Candidates {
  const plan::Group& group;
  const std::vector<HealthPtr>& health;  ///< as in the group
};

/// Chooses the server to ask next. Of the servers not tried yet, the lowest priority with one that may be
/// asked is taken, and in it a server by weight: 75 and 25 means three of four requests (RFC 2782). If all
/// are down, the down ones are asked in the same order: asking costs less than giving up.
///   returns  index into group.servers; nothing if all were tried
std::optional<std::size_t> choose(const Candidates& of, const Tried& tried, Random& random, TimePoint now);

}  // namespace jembatan::forward
