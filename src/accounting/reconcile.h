#pragma once
// Whether two hops have the same records, and what differs.
#include "accounting/ledger.h"

namespace jembatan::accounting {

struct Differing {
  Entry here;
  Entry there;
};

/// How far the other side's clock is ahead of this one's (behind, if negative), and how far it may be from
/// that.
struct ClockGap {
  Duration ahead{0};
  Duration give_or_take{0};
};

struct Findings {
  std::uint64_t records_here = 0;
  std::uint64_t records_there = 0;
  std::vector<Entry> only_here;
  std::vector<Entry> only_there;
  std::vector<Entry> double_here;  ///< the second and further ones of the same
  std::vector<Entry> double_there;
  std::vector<Differing> different;  ///< of one event, and not saying the same
  Ledger::Late late_here;
  Ledger::Late late_there;
  std::optional<ClockGap> clocks;

  bool agree() const;
};

struct ReconcileWish {
  std::optional<std::chrono::seconds> late = {};  ///< records that came later than that are findings, too
  std::size_t most_late = 1000;                   ///< that are told one by one
};

/// Compares two ledgers over the same time. Records are the same if they have one digest; what one side alone
/// has is paired by key.
///   errors  those of the ledgers
Result<Findings> reconcile(Ledger& here, Ledger& there, const ReconcileWish& wish = {});

}  // namespace jembatan::accounting
