#pragma once
#include "journal/entry.h"

namespace jembatan::journal {

struct Record;

struct Found {
  std::vector<Entry> entries;        ///< the newest first, without trails and packets
  std::uint64_t stopped_before = 0;  ///< numbers below this were not looked at any more; 0: all were
};
/// What is looked for.
///   plans   for the words that a text is searched in
///   go_on   asked now and then: false: it has taken long enough
///   errors  those of the blocks; Errc::malformed: one of them cannot be read
Result<Found> find(Blocks& blocks, const Query& query, const PlanOf& plans,
                   const std::function<bool()>& go_on);

/// Calls `visit` with each entry that is looked for, the newest first, until it returns false.
///   returns  Found::stopped_before
Result<std::uint64_t> each_match(Blocks& blocks, const Query& query, const PlanOf& plans,
                                 const std::function<bool()>& go_on,
                                 const std::function<bool(const Record&)>& visit);

/// Nothing if there is none of that number, or not any more.
Result<std::optional<Entry>> entry(Blocks& blocks, std::uint64_t number, const PlanOf& plans);

}  // namespace jembatan::journal
