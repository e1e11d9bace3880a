#include "forward/live_plan.h"

#include <fmt/format.h>

namespace jembatan::forward {

LivePlanPtr HealthBoard::go_live(plan::PlanPtr plan, std::uint64_t revision) {
  const std::lock_guard lock(mutex_);
  auto live = std::make_shared<LivePlan>();
  std::map<std::string, HealthPtr> still_known;
  for (const plan::Group& group : plan->groups) {
    auto& healths = live->health.emplace_back();
    live->spread.push_back({std::make_shared<Spread>(), std::make_shared<Spread>()});
    for (const Purpose purpose : {Purpose::access, Purpose::accounting}) {
      for (const plan::Server& server : group.servers) {
        const std::string key = fmt::format("{}\n{}\n{}\n{}", group.name, server.name,
                                            endpoint_of(server, purpose).text(), static_cast<int>(purpose));
        HealthPtr& health = still_known[key];
        health = known_.contains(key) ? known_[key] : std::make_shared<ServerHealth>();
        healths[static_cast<std::size_t>(purpose)].push_back(health);
      }
    }
  }
  known_ = std::move(still_known);
  std::unordered_map<std::string, ActivityPtr> clients;
  for (const plan::Client& client : plan->clients) {
    const auto known = clients_.find(client.name);
    live->activity.push_back(known == clients_.end() ? std::make_shared<ClientActivity>() : known->second);
    clients.emplace(client.name, live->activity.back());
  }
  clients_ = std::move(clients);
  live->plan = std::move(plan);
  live->revision = revision;
  return live;
}

}  // namespace jembatan::forward
