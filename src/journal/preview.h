#pragma once
// What another plan would make of requests that have happened.
#include "journal/search.h"

namespace jembatan::journal {

/// One request that another plan would decide otherwise.
struct Otherwise {
  Entry was;                             ///< its heading
  std::string would;                     ///< "rejected (no access rule matches)", "sent to group lagoon"
  std::vector<std::string> differences;  ///< of the replies: "Filter-Id \"crew\" would be \"deck\""
};

struct Preview {
  std::uint64_t looked_at = 0;  ///< requests
  std::uint64_t not_told = 0;   ///< of which it cannot be said: passwords that are not known here
  std::uint64_t differ = 0;
  std::vector<Otherwise> otherwise;  ///< the newest of those that differ, at most Query::most
  std::uint64_t stopped_before = 0;  ///< the search took long: requests before this number were not looked at
};

/// Decides the requests of the journal that match again by a plan, with what was found out about them then:
/// who proved the password, what servers answered.
///   plans    of the revisions that they were decided by
///   go_on    as in find()
///   errors   those of the blocks
Result<Preview> preview(Blocks& blocks, const Query& query, const PlanOf& plans, const plan::PlanPtr& by,
                        const std::function<bool()>& go_on);

}  // namespace jembatan::journal
