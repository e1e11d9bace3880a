#include "forward/health.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::forward {
namespace {

std::int64_t stamp(TimePoint time) {
  return time.time_since_epoch().count();
}

std::int64_t milliseconds(WallTime time) {
  return std::chrono::duration_cast<Duration>(time.time_since_epoch()).count();
}

}  // namespace

std::string_view name_of(Purpose purpose) {
  return purpose == Purpose::access ? "access" : "accounting";
}

bool ServerHealth::may_ask(const plan::Group& group, TimePoint now) {
  std::int64_t retry_at = retry_at_.load(std::memory_order_relaxed);
  if (retry_at == 0) return true;
  if (stamp(now) < retry_at) return false;
  // One caller wins the trial; the others see the next date.
  return retry_at_.compare_exchange_strong(retry_at, stamp(now + group.try_again_every));
}

ServerHealth::Change ServerHealth::answered(Now now) {
  answered_.fetch_add(1, std::memory_order_relaxed);
  if (silent_.load(std::memory_order_relaxed) != 0) silent_.store(0, std::memory_order_relaxed);
  if (retry_at_.load(std::memory_order_relaxed) == 0 || retry_at_.exchange(0) == 0) return Change::none;
  since_.store(milliseconds(now.wall), std::memory_order_relaxed);
  return Change::came_back;
}

ServerHealth::Change ServerHealth::unanswered(const plan::Group& group, Now now) {
  const int in_a_row = silent_.fetch_add(1) + 1;
  if (in_a_row < group.down_after) return Change::none;
  std::int64_t up = 0;
  if (!retry_at_.compare_exchange_strong(up, stamp(now.steady + group.try_again_every))) return Change::none;
  since_.store(milliseconds(now.wall), std::memory_order_relaxed);
  return Change::went_down;
}

ServerHealth::State ServerHealth::state() const {
  if (down()) return State::down;
  return silent_in_a_row() > 0 ? State::doubted : State::up;
}

std::optional<WallTime> ServerHealth::since() const {
  const std::int64_t since = since_.load(std::memory_order_relaxed);
  return since == 0 ? std::nullopt : std::optional(WallTime(Duration(since)));
}

std::string ServerHealth::why(Now now) const {
  const int silent = silent_in_a_row();
  const std::string in_vain = fmt::format("{} attempt{} in a row unanswered", silent, silent == 1 ? "" : "s");
  return down() ? in_vain + ", tried again " + next_trial(now) : in_vain;
}

std::string ServerHealth::next_trial(Now now) const {
  const auto left = std::chrono::ceil<std::chrono::seconds>(
      std::chrono::nanoseconds(retry_at_.load(std::memory_order_relaxed) - stamp(now.steady)));
  return left.count() > 0 ? fmt::format("in {}s", left.count()) : "with the next request";
}

std::string ServerHealth::text(Now now) const {
  const auto down_since = since();
  if (!down() || !down_since) return "silent";
  return fmt::format("down since {}, tried again {}", second_text(*down_since), next_trial(now));
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
