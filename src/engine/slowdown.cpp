#include "engine/slowdown.h"

#include <algorithm>
#include <functional>

#include "identity/name.h"

namespace jembatan::engine {

using namespace std::chrono_literals;

std::string Slowdown::wide_key_of(const Attempt& attempt) {
  std::string out(attempt.user);
  out.push_back('\0');
  return out.append(attempt.client);
}

std::string Slowdown::key_of(const Attempt& attempt) {
  std::string out = wide_key_of(attempt);
  out.push_back('\0');
  return out.append(attempt.station);
}

Slowdown::Place* Slowdown::find(const std::string& key) {
  const auto found = places_.find(key);
  return found == places_.end() ? nullptr : &found->second;
}

Slowdown::Place& Slowdown::place_of(const std::string& key) {
  if (Place* known = find(key)) {
    ages_.splice(ages_.begin(), ages_, known->age);
    return *known;
  }
  if (places_.size() >= most_) {
    places_.erase(ages_.back());
    ages_.pop_back();
  }
  ages_.push_front(key);
  Place& made = places_[key];
  made.age = ages_.begin();
  any_ = true;
  return made;
}

// Of every sign-in: no allocation. Who finds two attempts with one mark gains a station that is measured by
// itself alone, as any other is.
std::uint64_t Slowdown::mark_of(const Attempt& attempt) const {
  std::uint64_t out = seed_;
  for (const std::string_view part : {attempt.user, attempt.client, attempt.station}) {
    out ^= std::hash<std::string_view>{}(part);
    out *= 0x9E3779B97F4A7C15U;
    out ^= out >> 32U;
  }
  return out;
}

bool Slowdown::trusts(const Attempt& attempt) const {
  const std::uint64_t mark = mark_of(attempt);
  return trusted_[mark % kTrusted].load(std::memory_order_relaxed) == mark;
}

// What is under way might be wrong: it is waited for as if it were.
std::optional<Duration> Slowdown::left(const Place* place, std::uint32_t slow_after, TimePoint now) {
  if (place == nullptr) return std::nullopt;
  if (place->until > now) return std::chrono::ceil<Duration>(place->until - now);
  if (place->under_way > 0 && place->wrong + place->under_way >= slow_after) return 1s;
  return std::nullopt;
}

std::optional<Duration> Slowdown::look(const Attempt& attempt, const plan::SignIn& limits, TimePoint now) {
  if (const auto own = left(find(key_of(attempt)), limits.slow_after, now)) return own;
  if (trusts(attempt)) return std::nullopt;
  return left(find(wide_key_of(attempt)), limits.slow_after * kAllStations, now);
}

std::optional<Duration> Slowdown::wait(const Attempt& attempt, const plan::SignIn& limits, TimePoint now) {
  if (limits.slow_after == 0 || !any_.load(std::memory_order_relaxed)) return std::nullopt;
  const std::lock_guard lock(mutex_);
  return look(attempt, limits, now);
}

std::optional<Duration> Slowdown::begin(const Attempt& attempt, const plan::SignIn& limits, TimePoint now) {
  if (limits.slow_after == 0) return std::nullopt;
  const std::lock_guard lock(mutex_);
  if (const auto until = look(attempt, limits, now)) return until;
  ++place_of(key_of(attempt)).under_way;
  ++place_of(wide_key_of(attempt)).under_way;
  return std::nullopt;
}

void Slowdown::end(const std::string& key) {
  Place* place = find(key);
  if (place == nullptr) return;
  if (place->under_way > 0) --place->under_way;
  if (place->under_way > 0 || place->wrong > 0) return;
  ages_.erase(place->age);
  places_.erase(key);
  any_ = !places_.empty();
}

void Slowdown::end(const Attempt& attempt) {
  if (!any_.load(std::memory_order_relaxed)) return;
  const std::lock_guard lock(mutex_);
  end(key_of(attempt));
  end(wide_key_of(attempt));
}

void Slowdown::count(Place& place, std::uint32_t slow_after, Duration at_most, TimePoint now) {
  ++place.wrong;
  if (place.wrong < slow_after) return;
  const std::uint32_t doubled = std::min<std::uint32_t>(place.wrong - slow_after, 20);
  place.until = now + std::min<Duration>(1s * (1U << doubled), at_most);
}

void Slowdown::wrong(const Attempt& attempt, const plan::SignIn& limits, TimePoint now) {
  end(attempt);
  if (limits.slow_after == 0) return;
  const std::lock_guard lock(mutex_);
  count(place_of(key_of(attempt)), limits.slow_after, limits.slow_at_most, now);
  if (trusts(attempt)) return;
  Place& all = place_of(wide_key_of(attempt));
  if (now - all.last > kForgetAllStations) all.wrong = 0;  // people mistype now and then, for years
  all.last = now;
  count(all, limits.slow_after * kAllStations, limits.slow_at_most, now);
}

std::size_t Slowdown::forget(std::string_view user) {
  const std::lock_guard lock(mutex_);
  std::size_t out = 0;
  for (auto& [key, place] : places_) {
    if (identity::comparable(key.substr(0, key.find('\0'))) != user) continue;
    out += place.wrong > 0 ? 1U : 0U;
    place.wrong = 0;
    place.until = {};
  }
  return out;
}

void Slowdown::right(const Attempt& attempt) {
  const std::uint64_t mark = mark_of(attempt);
  trusted_[mark % kTrusted].store(mark, std::memory_order_relaxed);
  if (!any_.load(std::memory_order_relaxed)) return;
  {
    const std::lock_guard lock(mutex_);
    if (Place* own = find(key_of(attempt))) {
      own->wrong = 0;
      own->until = {};
    }
  }
  end(attempt);
}

}  // namespace jembatan::engine
