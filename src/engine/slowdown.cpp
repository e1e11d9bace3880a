#include "engine/slowdown.h"

#include <algorithm>
#include <functional>

namespace jembatan::engine {

using namespace std::chrono_literals;

std::size_t Slowdown::key_of(const plan::User& user, const plan::Client& client) {
  const std::size_t name = std::hash<std::string>{}(user.name);
  return name ^ (std::hash<std::string>{}(client.name) * 0x9E3779B97F4A7C15U);
}

std::optional<Duration> Slowdown::wait(const plan::User& user, const plan::Client& client,
                                       TimePoint now) const {
  if (taken_ == 0) return std::nullopt;
  const std::size_t key = key_of(user, client);
  const Place& place = places_[key % places_.size()];
  if (place.key != key || place.until <= now) return std::nullopt;
  return std::chrono::duration_cast<Duration>(place.until - now);
}

void Slowdown::wrong(const plan::User& user, const plan::Client& client, const plan::SignIn& limits,
                     TimePoint now) {
  const std::size_t key = key_of(user, client);
  Place& place = places_[key % places_.size()];
  if (place.key != key && place.until > now) return;
  if (place.wrong == 0) ++taken_;
  if (place.key != key) place = {key, 0, {}};
  ++place.wrong;
  if (limits.slow_after == 0 || place.wrong < limits.slow_after) return;
  const std::uint32_t doubled = std::min<std::uint32_t>(place.wrong - limits.slow_after, 20);
  place.until = now + std::min<Duration>(1s * (1U << doubled), limits.slow_at_most);
}

void Slowdown::right(const plan::User& user, const plan::Client& client) {
  if (taken_ == 0) return;
  const std::size_t key = key_of(user, client);
  Place& place = places_[key % places_.size()];
  if (place.key != key || place.wrong == 0) return;
  place = {};
  --taken_;
}

}  // namespace jembatan::engine
