#pragma once
// Counts of outcomes by client and by realm, for metrics. Bounded: what is beyond the bound is counted as
// "other".
#include <map>
#include <mutex>
#include <string>

#include "engine/actions.h"
#include "forward/live_plan.h"

namespace jembatan::server {

class Tally {
 public:
  static constexpr std::size_t kMostNames = 200;
  using Counts = std::map<std::string, std::array<std::uint64_t, engine::kOutcomes>, std::less<>>;

  /// Any thread.
  void count(const engine::Event& event);
  Counts by_client() const;
  Counts by_realm() const;

 private:
  static void add(Counts& counts, std::string_view name, engine::Outcome outcome);
  mutable std::mutex mutex_;
  Counts by_client_;
  Counts by_realm_;
};

}  // namespace jembatan::server
