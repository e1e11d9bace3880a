#pragma once
// A plan in force, and what the node knows of its servers and clients.
#include <map>
#include <mutex>

#include "forward/activity.h"
#include "forward/choice.h"

namespace jembatan::forward {

using CountPtr = std::shared_ptr<std::atomic<std::uint64_t>>;

/// A plan in force, with the health of its servers. Immutable but for what the healths count.
struct LivePlan {
  plan::PlanPtr plan;
  std::uint64_t revision = 0;  ///< as the store numbers it
  /// Those of whom one is asked, and what is known of them.
  struct Asked {
    const plan::Group* group = nullptr;  ///< of the plan
    std::vector<HealthPtr> health;       ///< by server
    SpreadPtr spread;
    std::vector<CountPtr> chosen;  ///< by server: the requests that were given to it first
  };
  /// [purpose][place]: the plan's groups; for authorization its devices
  std::array<std::vector<Asked>, kPurposes> asked;

  ServerHealth::Changes changes;  ///< of all healths

  std::vector<ActivityPtr> activity;  ///< by client, as in the plan

  ClientActivity& activity_of(const plan::Client& client) const {
    return *activity[static_cast<std::size_t>(&client - plan->clients.data())];
  }
  Candidates candidates(std::size_t group, Purpose purpose) const {
    const Asked& of = asked_of(group, purpose);
    return {*of.group, of.health, *of.spread,
            changes == nullptr ? 0 : changes->load(std::memory_order_acquire)};
  }
  const Asked& asked_of(std::size_t group, Purpose purpose) const {
    return asked[static_cast<std::size_t>(purpose)][group];
  }
  const std::vector<HealthPtr>& health_of(std::size_t group, Purpose purpose) const {
    return asked_of(group, purpose).health;
  }
  std::atomic<std::uint64_t>& chosen_count(std::size_t group, Purpose purpose, std::size_t server) const {
    return *asked_of(group, purpose).chosen[server];
  }
};

using LivePlanPtr = std::shared_ptr<const LivePlan>;

/// Remembers healths by endpoint and purpose, counts of groups by name, and activities by client, so that a
/// new plan starts with what is known.
class HealthBoard {
 public:
  LivePlanPtr go_live(plan::PlanPtr plan, std::uint64_t revision);

 private:
  std::mutex mutex_;
  const ServerHealth::Changes changes_ = std::make_shared<std::atomic<std::uint64_t>>(0);
  std::map<std::pair<Endpoint, Purpose>, HealthPtr> healths_;
  std::map<std::string, CountPtr> counts_;
  std::unordered_map<std::string, ActivityPtr> clients_;
};

}  // namespace jembatan::forward
