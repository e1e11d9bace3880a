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

std::uint64_t number_of(std::string_view place) {
  return place.empty() ? 0 : stable_number(place);
}

}  // namespace

void Online::follow(const accounting::Session& session) {
  if (session.user.empty()) return;
  const std::string name = counted_name(session);
  const Place place = number_of(identity::place_of(session.calling_station, session.nas, session.port));
  const std::lock_guard lock(mutex_);
  const bool begins = open_.count(session.id) == 0;
  end(session.id);
  const auto user = session.ended ? users_.find(name) : users_.try_emplace(name).first;
  if (user == users_.end()) return;
  auto& entered = user->second.entered;  // what they were let in for has begun, or has ended already
  const auto there = entered.find(place);
  const bool one_of_them = place == 0 && there != entered.end() && there->second.size() > 1;
  if (one_of_them && begins) there->second.erase(there->second.begin());
  if (there != entered.end() && !one_of_them && (place != 0 || begins)) entered.erase(there);
  if (!session.ended) {
    ++user->second.sessions;
    ++user->second.open_at[place];
    open_[session.id] = {&*user, place};
  }
  if (user->second.is_gone()) users_.erase(user);
}

void Online::end(std::int64_t session) {
  const auto found = open_.find(session);
  if (found == open_.end()) return;
  auto& [name, user] = *found->second.user;
  const auto there = user.open_at.find(found->second.place);
  if (--there->second == 0) user.open_at.erase(there);
  --user.sessions;
  open_.erase(found);
  if (user.is_gone()) users_.erase(users_.find(name));
}

std::size_t Online::others(const User& user, Place place, WallTime now) {
  std::size_t out = user.sessions;
  if (const auto here = user.open_at.find(place); place != 0 && here != user.open_at.end())
    out -= here->second;
  for (const auto& [where, entries] : user.entered) {
    if (where != 0 && (where == place || user.open_at.count(where) > 0)) continue;
    const auto live = std::count_if(entries.begin(), entries.end(),
                                    [&](const Entered& one) { return now - one.at <= kBeginsWithin; });
    // Who is let in again where they are already is not twice there.
    out += static_cast<std::size_t>(where == 0 ? live : std::min<std::ptrdiff_t>(live, 1));
  }
  return out;
}

std::size_t Online::count(std::string_view user, std::string_view place, WallTime now) const {
  const std::lock_guard lock(mutex_);
  const auto found = users_.find(lower(user));
  return found == users_.end() ? 0 : others(found->second, number_of(place), now);
}

std::size_t Online::enter(std::string_view user, std::string_view place, WallTime now) {
  const std::string name = lower(user);
  const Place where = number_of(place);
  const std::lock_guard lock(mutex_);
  make_room(now);
  User& them = users_[name];
  const std::size_t out = others(them, where, now);
  const Entered entry{++last_, now};
  them.entered[where].push_back(entry);
  entered_.push_back({name, where, entry});
  return out;
}

void Online::leave(std::string_view user, std::string_view place) {
  const std::lock_guard lock(mutex_);
  const auto found = users_.find(lower(user));
  if (found == users_.end()) return;
  auto& entered = found->second.entered;
  const auto there = entered.find(number_of(place));
  if (there != entered.end()) {
    there->second.pop_back();
    if (there->second.empty()) entered.erase(there);
  }
  if (found->second.is_gone()) users_.erase(found);
}

void Online::forget(const InOrder& entry) {
  const auto found = users_.find(entry.user);
  if (found == users_.end()) return;
  auto& entered = found->second.entered;
  const auto there = entered.find(entry.place);
  if (there == entered.end()) return;
  std::erase_if(there->second, [&](const Entered& one) { return one.number == entry.entry.number; });
  if (there->second.empty()) entered.erase(there);
  if (found->second.is_gone()) users_.erase(found);
}

void Online::make_room(WallTime now) {
  while (!entered_.empty() &&
         (entered_.size() >= kMostEntered || now - entered_.front().entry.at > kBeginsWithin)) {
    forget(entered_.front());
    entered_.pop_front();
  }
}

std::size_t Online::users() const {
  const std::lock_guard lock(mutex_);
  return users_.size();
}

}  // namespace jembatan::engine
