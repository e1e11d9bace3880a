#include "engine/online.h"

#include <algorithm>

#include "base/text.h"
#include "identity/device.h"

namespace jembatan::engine {
namespace {

// "sari@reef.example", whatever form the device used: its name in its realm, which the plan knows.
std::string counted_name(const accounting::Session& session) {
  std::string_view user = session.user;
  if (const std::size_t before = user.rfind('\\'); before != std::string_view::npos)
    user.remove_prefix(before + 1);
  if (session.realm.empty()) return lower(user);
  return lower(std::string(user.substr(0, user.rfind('@'))) + "@" + session.realm);
}

}  // namespace

void Online::follow(const accounting::Session& session) {
  if (session.user.empty()) return;
  const std::string user = counted_name(session);
  const std::string place = identity::place_of(session.calling_station, session.nas, session.port);
  const std::lock_guard lock(mutex_);
  Places& places = users_[user];
  // What it was let in for has begun, or has ended already.
  std::erase_if(places, [&](const At& one) {
    return one.session == session.id || (one.session == 0 && one.place == place);
  });
  if (!session.ended) places.push_back({place, session.id, {}});
  if (places.empty()) users_.erase(user);
}

std::size_t Online::others(const Places& places, std::string_view place, WallTime now) {
  std::size_t out = 0;
  for (auto one = places.begin(); one != places.end(); ++one) {
    if (one->place == place && !place.empty()) continue;
    if (one->session == 0 && now - one->entered > kBeginsWithin) continue;
    // Who is let in again where they are already is not twice there.
    const bool is_there =
        one->session == 0 && !one->place.empty() &&
        std::any_of(places.begin(), one, [&](const At& other) { return other.place == one->place; });
    if (!is_there) ++out;
  }
  return out;
}

std::size_t Online::count(std::string_view user, std::string_view place, WallTime now) const {
  const std::lock_guard lock(mutex_);
  const auto found = users_.find(lower(user));
  return found == users_.end() ? 0 : others(found->second, place, now);
}

std::size_t Online::enter(std::string_view user, std::string_view place, WallTime now) {
  const std::string name = lower(user);
  const std::lock_guard lock(mutex_);
  make_room(now);
  Places& places = users_[name];
  const std::size_t out = others(places, place, now);
  places.push_back({std::string(place), 0, now});
  entered_.push_back({name, std::string(place), now});
  return out;
}

void Online::leave(std::string_view user, std::string_view place) {
  const std::string name = lower(user);
  const std::lock_guard lock(mutex_);
  const auto found = users_.find(name);
  if (found == users_.end()) return;
  Places& places = found->second;
  const auto last = std::find_if(places.rbegin(), places.rend(),
                                 [&](const At& one) { return one.session == 0 && one.place == place; });
  if (last != places.rend()) places.erase(std::next(last).base());
  if (places.empty()) users_.erase(found);
}

void Online::forget(const std::string& user, std::string_view place, WallTime entered) {
  const auto found = users_.find(user);
  if (found == users_.end()) return;
  std::erase_if(found->second, [&](const At& one) {
    return one.session == 0 && one.place == place && one.entered == entered;
  });
  if (found->second.empty()) users_.erase(found);
}

void Online::make_room(WallTime now) {
  while (!entered_.empty() &&
         (entered_.size() >= kMostEntered || now - entered_.front().at > kBeginsWithin)) {
    forget(entered_.front().user, entered_.front().place, entered_.front().at);
    entered_.pop_front();
  }
}

std::size_t Online::users() const {
  const std::lock_guard lock(mutex_);
  return users_.size();
}

}  // namespace jembatan::engine
