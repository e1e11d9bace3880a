#include "server/tally.h"

#include "base/text.h"
#include "identity/name.h"

namespace jembatan::server {

void Tally::add(Counts& counts, std::string_view name, engine::Outcome outcome) {
  auto found = counts.find(name);
  if (found == counts.end())
    found = counts.try_emplace(counts.size() < kMostNames ? std::string(name) : "other").first;
  ++found->second[static_cast<std::size_t>(outcome)];
}

void Tally::count(const engine::Event& event) {
  if (event.client.empty()) return;
  const std::lock_guard lock(mutex_);
  add(by_client_, event.client, event.outcome);
  // Only realms that were let in are named: anybody can send any name.
  const bool answered = event.outcome == engine::Outcome::accepted ||
                        event.outcome == engine::Outcome::accounted ||
                        event.outcome == engine::Outcome::challenged;
  const identity::Comparable realm(event.realm);
  if (event.user.empty()) return;
  if (answered || by_realm_.contains(realm.text())) {
    add(by_realm_, realm.text(), event.outcome);
  } else {
    add(by_realm_, "other", event.outcome);
  }
}

Tally::Counts Tally::by_client() const {
  const std::lock_guard lock(mutex_);
  return by_client_;
}

Tally::Counts Tally::by_realm() const {
  const std::lock_guard lock(mutex_);
  return by_realm_;
}

}  // namespace jembatan::server
