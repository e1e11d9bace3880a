#include "forward/live_plan.h"

#include <fmt/format.h>

namespace jembatan::forward {
namespace {

// What was known of something, or a new one; it stays known.
template <class Map, class... Made>
typename Map::mapped_type known_or_new(const Map& known, Map& still_known, const typename Map::key_type& key,
                                       Made... made) {
  auto& out = still_known[key];
  if (out) return out;
  const auto before = known.find(key);
  out = before != known.end() ? before->second
                              : std::make_shared<typename Map::mapped_type::element_type>(made...);
  return out;
}

}  // namespace

LivePlanPtr HealthBoard::go_live(plan::PlanPtr plan, std::uint64_t revision) {
  const std::lock_guard lock(mutex_);
  auto live = std::make_shared<LivePlan>();
  live->changes = changes_;
  decltype(healths_) healths;
  decltype(counts_) counts;
  for (std::size_t place = 0; place < kPurposes; ++place) {
    const auto purpose = static_cast<Purpose>(place);
    for (const plan::Group& group : purpose == Purpose::authorization ? plan->devices : plan->groups) {
      LivePlan::Asked& asked = live->asked[place].emplace_back();
      asked.group = &group;
      asked.spread = std::make_shared<Spread>();
      for (const plan::Server& server : group.servers) {
        const Endpoint at = endpoint_of(server, purpose);
        asked.health.push_back(known_or_new(healths_, healths, {at, purpose}, purpose, changes_));
        const std::string key = fmt::format("{}\n{}\n{}\n{}", group.name, server.name, at.text(), place);
        asked.chosen.push_back(known_or_new(counts_, counts, key, 0U));
      }
    }
  }
  healths_ = std::move(healths);
  counts_ = std::move(counts);
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
