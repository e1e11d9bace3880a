#pragma once
// The journal without a database.
#include <map>

#include "base/text.h"
#include "journal/search.h"
#include "journal/tell.h"
#include "journal/told_again.h"

namespace jembatan::support {

/// What the journal's thread does with an event: its words at once only if they cannot be told again.
inline void pack(journal::Packing& packing, const engine::Event& event) {
  const bool at_once = event.story != nullptr && !journal::can_be_told_again(*event.story->live->plan);
  packing.add(event, at_once ? join(journal::steps_of(*event.story, event.source.address), "\n") : "");
}

/// The entry of an event as it is read again, with the plan that decided it.
inline journal::Entry kept_entry(const engine::Event& event) {
  journal::Packing packing;
  pack(packing, event);
  const journal::Block block = packing.take();
  return journal::entry_of(journal::records_in(block)->at(0),
                           [&](std::uint64_t) { return Result<plan::PlanPtr>(event.story->live->plan); });
}

/// Keeps blocks in memory.
class MemoryBlocks : public journal::Blocks {
 public:
  Status append(std::span<const journal::Block> blocks) override {
    for (const journal::Block& block : blocks) all[block.first] = block;
    return {};
  }
  Result<std::optional<journal::Block>> below(std::uint64_t number, const std::optional<WallTime>& since,
                                              const std::optional<WallTime>& until) override {
    for (auto at = all.rbegin(); at != all.rend(); ++at) {
      const journal::Block& block = at->second;
      if (at->first < number && (!since || block.until >= *since) && (!until || block.from < *until))
        return std::optional(block);
    }
    return std::optional<journal::Block>{};
  }
  Result<std::uint64_t> last() override { return all.empty() ? 0 : all.rbegin()->second.last; }
  Status prune(const journal::Limits&, WallTime) override { return {}; }

  std::map<std::uint64_t, journal::Block> all;
};

}  // namespace jembatan::support
