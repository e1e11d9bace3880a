#include "forward/health.h"

#include <fmt/format.h>

#include <algorithm>
#include <bit>

#include "base/text.h"

namespace jembatan::forward {
namespace {

std::int64_t stamp(TimePoint time) {
  return time.time_since_epoch().count();
}

std::int64_t milliseconds(WallTime time) {
  return std::chrono::duration_cast<Duration>(time.time_since_epoch()).count();
}

std::optional<WallTime> moment(std::int64_t milliseconds) {
  return milliseconds == 0 ? std::nullopt : std::optional(WallTime(Duration(milliseconds)));
}

constexpr double kColdest = 0.05;  // of its share: a little, from the first moment on

}  // namespace

Purpose purpose_of(wire::Code request) {
  if (request == wire::Code::accounting_request) return Purpose::accounting;
  return request == wire::Code::disconnect_request || request == wire::Code::coa_request
             ? Purpose::authorization
             : Purpose::access;
}

wire::Code request_for(Purpose purpose) {
  return purpose == Purpose::access ? wire::Code::access_request : wire::Code::accounting_request;
}

std::string_view name_of(Purpose purpose) {
  static constexpr std::array<std::string_view, kPurposes> kNames{"access", "accounting", "authorization"};
  return kNames[static_cast<std::size_t>(purpose)];
}

bool ServerHealth::try_now(const plan::Group& group, TimePoint now) {
  if (probed(group)) return false;
  std::int64_t retry_at = retry_at_.load(std::memory_order_relaxed);
  if (retry_at == 0 || stamp(now) < retry_at) return false;
  // One caller wins the trial; the others see the next date.
  return retry_at_.compare_exchange_strong(retry_at, stamp(now + group.try_again_every));
}

double ServerHealth::warmth(const plan::Group& group, TimePoint now) const {
  const std::int64_t came_back = came_back_.load(std::memory_order_relaxed);
  if (came_back == 0 || group.warm_up == Duration{0}) return 1;
  const std::chrono::duration<double> warm_up = group.warm_up;
  const std::chrono::duration<double> up = std::chrono::nanoseconds(stamp(now) - came_back);
  return std::clamp(up / warm_up, kColdest, 1.0);
}

// Of n turns it takes n * warmth, evenly.
bool ServerHealth::takes_turn(const plan::Group& group, TimePoint now) {
  constexpr std::uint32_t kWhole = 1U << 16U;
  const double part = warmth(group, now);
  if (part >= 1) return true;
  const std::uint32_t step = static_cast<std::uint32_t>(part * kWhole);
  const std::uint32_t before = turns_.fetch_add(step, std::memory_order_relaxed);
  return before / kWhole != (before + step) / kWhole;
}

void ServerHealth::note(bool answered) {
  ended_.fetch_add(1, std::memory_order_relaxed);
  std::uint64_t window = window_.load(std::memory_order_relaxed);
  while (!window_.compare_exchange_weak(window, window << 1U | (answered ? 1U : 0U),
                                        std::memory_order_relaxed)) {
  }
}

ServerHealth::Change ServerHealth::answered(Now now, std::optional<std::chrono::microseconds> took) {
  answered_.fetch_add(1, std::memory_order_relaxed);
  last_answer_.store(milliseconds(now.wall), std::memory_order_relaxed);
  answered_at_.store(stamp(now.steady), std::memory_order_relaxed);
  note(true);
  if (took) times_.add(*took, now.steady);
  if (silent_.load(std::memory_order_relaxed) != 0) {
    silent_.store(0, std::memory_order_relaxed);
    for (auto& path : paths_) path.store(0, std::memory_order_relaxed);
    changed();
  }
  if (probe_silent_.load(std::memory_order_relaxed)) probe_silent_.store(false, std::memory_order_relaxed);
  if (retry_at_.load(std::memory_order_relaxed) == 0 || retry_at_.exchange(0) == 0) return Change::none;
  since_.store(milliseconds(now.wall), std::memory_order_relaxed);
  came_back_.store(stamp(now.steady), std::memory_order_relaxed);
  changed();
  return Change::came_back;
}

// How many different ones there are now, at most kPaths. One that nobody can tell is like no other.
int ServerHealth::add_path(Path path) {
  for (int i = 0; i < kPaths; ++i) {
    auto& place = paths_[static_cast<std::size_t>(i)];
    Path known = place.load(std::memory_order_relaxed);
    if (known == 0 && place.compare_exchange_strong(known, path == 0 ? ~Path{0} : path)) return i + 1;
    if (known == path && path != 0) return paths();
  }
  return kPaths;
}

int ServerHealth::paths() const {
  return static_cast<int>(std::count_if(paths_.begin(), paths_.end(), [](const auto& path) {
    return path.load(std::memory_order_relaxed) != 0;
  }));
}

ServerHealth::Change ServerHealth::unanswered(const plan::Group& group, Path path, Now now) {
  note(false);
  const int paths = add_path(path);
  const int in_a_row = silent_.fetch_add(1) + 1;
  changed();
  if (in_a_row < group.down_after) return Change::none;
  const bool shown = probed(group) ? probe_silent_.load(std::memory_order_relaxed)
                                   : paths >= std::min(kPaths, group.down_after);
  return shown ? take_down(group, now) : Change::none;
}

ServerHealth::Change ServerHealth::probe_unanswered(const plan::Group& group, Now now) {
  note(false);
  probe_silent_.store(true, std::memory_order_relaxed);
  const int in_a_row = silent_.fetch_add(1) + 1;
  changed();
  return in_a_row < group.down_after ? Change::none : take_down(group, now);
}

ServerHealth::Change ServerHealth::take_down(const plan::Group& group, Now now) {
  std::int64_t up = 0;
  if (!retry_at_.compare_exchange_strong(up, stamp(now.steady + group.try_again_every))) return Change::none;
  since_.store(milliseconds(now.wall), std::memory_order_relaxed);
  changed();
  return Change::went_down;
}

ServerHealth::State ServerHealth::state() const {
  if (down()) return State::down;
  return silent_in_a_row() > 0 ? State::doubted : State::up;
}

std::optional<WallTime> ServerHealth::since() const {
  return moment(since_.load(std::memory_order_relaxed));
}

std::optional<WallTime> ServerHealth::last_answer() const {
  return moment(last_answer_.load(std::memory_order_relaxed));
}

bool ServerHealth::answered_within(Duration time, TimePoint now) const {
  const std::int64_t at = answered_at_.load(std::memory_order_relaxed);
  return at != 0 && stamp(now) - at < std::chrono::nanoseconds(time).count();
}

ServerHealth::Recent ServerHealth::recent() const {
  const std::uint64_t ended = ended_.load(std::memory_order_relaxed);
  return {static_cast<int>(std::min<std::uint64_t>(ended, kWindow)),
          std::popcount(window_.load(std::memory_order_relaxed))};
}

std::string ServerHealth::why(const plan::Group& group, Now now) const {
  const int silent = silent_in_a_row();
  std::string out = fmt::format("{} attempt{} in a row unanswered", silent, silent == 1 ? "" : "s");
  if (down()) return out + ", " + next_trial(group, now);
  if (silent < group.down_after) return out;
  if (probed(group)) return out + ", a probe will tell";
  const int users = paths();
  return out + fmt::format(", all of {} user{}: what lies behind it may be dead for {}", users,
                           users == 1 ? "" : "s", users == 1 ? "that one" : "them");
}

std::string ServerHealth::next_trial(const plan::Group& group, Now now) const {
  if (probed(group)) return "probed every " + text_of(group.try_again_every);
  const auto left = std::chrono::ceil<std::chrono::seconds>(
      std::chrono::nanoseconds(retry_at_.load(std::memory_order_relaxed) - stamp(now.steady)));
  return left.count() > 0 ? fmt::format("tried again in {}s", left.count())
                          : "tried again with the next request";
}

std::string ServerHealth::text(const plan::Group& group, Now now) const {
  const auto down_since = since();
  if (!down() || !down_since) return "silent";
  return fmt::format("down since {}, {}", second_text(*down_since), next_trial(group, now));
}

std::string silence_text(const plan::Group& group, const std::vector<HealthPtr>& health, Now now) {
  constexpr std::size_t kFew = 3;
  std::vector<std::string> parts;
  for (std::size_t i = 0; i < std::min(health.size(), kFew); ++i)
    parts.push_back(fmt::format("{} is {}", group.servers[i].name, health[i]->text(group, now)));
  if (health.size() > kFew) parts.push_back(fmt::format("and {} more", health.size() - kFew));
  return fmt::format("group {}: {}", group.name, join(parts, ", "));
}

Endpoint endpoint_of(const plan::Server& server, Purpose purpose) {
  const std::array<std::uint16_t, kPurposes> ports{server.access_port, server.accounting_port,
                                                   server.authorization_port};
  return {server.address, ports[static_cast<std::size_t>(purpose)]};
}

}  // namespace jembatan::forward
