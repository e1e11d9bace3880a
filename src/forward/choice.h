#pragma once
#include <optional>

#include "forward/health.h"
#include "forward/spread.h"

namespace jembatan::forward {

using Tried = Members;

/// What ties a request to a server of a group.
struct Asker {
  Path path = 0;  ///< whose request it is
  std::uint64_t sticks =
      0;  ///< a number that is the same for all requests that are to go to one server; 0: none
  std::optional<std::size_t> began_at;  ///< the server that its conversation began with: no other will do
};

/// Who can be asked, and what is known of them.
struct Candidates {
  const plan::Group& group;
  const std::vector<HealthPtr>& health;  ///< as in the group
  Spread& spread;                        ///< of the group
  std::uint64_t changes = 0;             ///< ServerHealth::Changes, as it stands
};

/// Those among whom requests are divided as things stand: the servers of the lowest priority with one that is
/// not avoided; if all are, those of the lowest.
Members members_in_turn(const plan::Group& group, const std::vector<HealthPtr>& health);

/// Chooses the server to ask next. Of the servers not tried yet, the lowest priority with one that may be
/// asked is taken, and in it a server by weight: 75 and 25 means three of four requests (RFC 2782), exactly
/// and without bursts (spread.h), or by what it sticks to (sticky.h). If all are down, the down ones are
/// asked in the same order: asking costs less than giving up.
///   returns  index into group.servers; nothing if all were tried
std::optional<std::size_t> choose(const Candidates& of, const Asker& asker, const Tried& tried,
                                  TimePoint now);

}  // namespace jembatan::forward
