#include "engine/remembered.h"

namespace jembatan::engine {

void Remembered::put(const std::string& key, TimePoint until) {
  auto table = table_.lock();
  const auto known = table->until.find(key);
  if (known != table->until.end()) {
    table->by_age.splice(table->by_age.end(), table->by_age, known->second.second);
    known->second.first = until;
    return;
  }
  if (table->until.size() >= most_) {
    table->until.erase(table->by_age.front());
    table->by_age.pop_front();
  }
  const auto place = table->by_age.insert(table->by_age.end(), key);
  table->until.emplace(key, std::pair(until, place));
}

bool Remembered::has(const std::string& key, TimePoint now) {
  auto table = table_.lock();
  const auto found = table->until.find(key);
  return found != table->until.end() && now < found->second.first;
}

}  // namespace jembatan::engine
