#include "forward/health.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::forward {
namespace {

std::int64_t stamp(TimePoint time) {
  return time.time_since_epoch().count();
}

}  // namespace

bool ServerHealth::may_ask(const plan::Group& group, TimePoint now) {
  std::int64_t retry_at = retry_at_.load(std::memory_order_relaxed);
  if (retry_at == 0) return true;
  if (stamp(now) < retry_at) return false;
  // One caller wins the trial; the others see the next date.
  return retry_at_.compare_exchange_strong(retry_at, stamp(now + group.try_again_every));
}

ServerHealth::Change ServerHealth::answered() {
  answered_.fetch_add(1, std::memory_order_relaxed);
  if (silent_.load(std::memory_order_relaxed) != 0) silent_.store(0, std::memory_order_relaxed);
  if (retry_at_.load(std::memory_order_relaxed) == 0) return Change::none;
  return retry_at_.exchange(0) != 0 ? Change::came_back : Change::none;
}

ServerHealth::Change ServerHealth::unanswered(const plan::Group& group, Now now) {
  const int in_a_row = silent_.fetch_add(1) + 1;
  if (in_a_row < group.down_after) return Change::none;
  std::int64_t up = 0;
  if (!retry_at_.compare_exchange_strong(up, stamp(now.steady + group.try_again_every))) return Change::none;
  down_since_.store(std::chrono::duration_cast<Duration>(now.wall.time_since_epoch()).count(),
                    std::memory_order_relaxed);
  return Change::went_down;
}

std::string ServerHealth::text(Now now) const {
  const std::int64_t retry_at = retry_at_.load(std::memory_order_relaxed);
  if (retry_at == 0) return "silent";
  const WallTime since{Duration(down_since_.load(std::memory_order_relaxed))};
  const auto left =
      std::chrono::ceil<std::chrono::seconds>(std::chrono::nanoseconds(retry_at - stamp(now.steady)));
  return fmt::format("down since {}, tried again {}", second_text(since),
                     left.count() > 0 ? fmt::format("in {}s", left.count()) : "with the next request");
}

std::string silence_text(const plan::Group& group, const std::vector<HealthPtr>& health, Now now) {
  constexpr std::size_t kFew = 3;
  std::vector<std::string> parts;
  for (std::size_t i = 0; i < std::min(health.size(), kFew); ++i)
    parts.push_back(fmt::format("{} is {}", group.servers[i].name, health[i]->text(now)));
  if (health.size() > kFew) parts.push_back(fmt::format("and {} more", health.size() - kFew));
  return fmt::format("group {}: {}", group.name, join(parts, ", "));
}

Endpoint endpoint_of(const plan::Server& server, Purpose purpose) {
  return {server.address, purpose == Purpose::access ? server.access_port : server.accounting_port};
}

}  // namespace jembatan::forward
