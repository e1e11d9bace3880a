#pragma once
#include <optional>

#include "forward/health.h"
#include "forward/spread.h"

namespace jembatan::forward {

using Tried = Members;

/// Who can be asked, and what is known of them.
struct Candidates {
  const plan::Group& group;
  const std::vector<HealthPtr>& health;  ///< as in the group
  Spread& spread;                        ///< of the group
};

/// Those among whom requests are divided as things stand: the servers of the lowest priority with one that is
/// not down; if all are down, those of the lowest.
Members members_in_turn(const plan::Group& group, const std::vector<HealthPtr>& health);

/// Chooses the server to ask next. Of the servers not tried yet, the lowest priority with one that may be
/// asked is taken, and in it a server by weight: 75 and 25 means three of four requests (RFC 2782), exactly
/// and without bursts (spread.h). If all are down, the down ones are asked in the same order: asking costs
/// less than giving up.
///   returns  index into group.servers; nothing if all were tried
std::optional<std::size_t> choose(const Candidates& of, const Tried& tried, TimePoint now);

}  // namespace jembatan::forward
