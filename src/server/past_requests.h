#pragma once
#include <deque>
#include <mutex>

#include "journal/preview.h"

namespace jembatan::server {

/// Reads the journal for people. Any thread, one at a time.
class PastRequests {
 public:
  ///   blocks  null: the node keeps no journal
  ///   load    the plan of a revision; called when its words are wanted
  PastRequests(std::unique_ptr<journal::Blocks> blocks, journal::PlanOf load);

  /// Stops after a while, so that others come to read, too.
  ///   errors  Errc::not_found: there is no journal; those of journal::find
  Result<journal::Found> find(const journal::Query& query);
  /// What another plan would make of them; with limits as find().
  Result<journal::Preview> preview(const journal::Query& query, const plan::PlanPtr& by);
  /// Nothing if there is none of that number, or not any more.
  Result<std::optional<journal::Entry>> entry(std::uint64_t number);

 private:
  Result<plan::PlanPtr> plan_of(std::uint64_t revision);

  static constexpr std::size_t kMostPlans = 3;
  std::mutex mutex_;
  std::unique_ptr<journal::Blocks> blocks_;
  journal::PlanOf load_;
  std::deque<std::pair<std::uint64_t, plan::PlanPtr>> plans_;  // the last that were asked for
};

}  // namespace jembatan::server
