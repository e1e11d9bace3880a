#pragma once
#include <list>
#include <string>
#include <unordered_map>

#include "base/clock.h"
#include "base/guarded.h"

namespace jembatan::engine {

/// Stations from which a second factor was right, so that it is not asked for again for a while. One table
/// for the node, any thread; it goes with the process. Bounded: the oldest goes first.
class Remembered {
 public:
  explicit Remembered(std::size_t most = 65536) : most_(most) {}

  ///   key  says all that must be the same: factor, user, station, tokens
  void put(const std::string& key, TimePoint until);
  bool has(const std::string& key, TimePoint now);

 private:
  struct Table {
    std::list<std::string> by_age;  // the oldest first
    std::unordered_map<std::string, std::pair<TimePoint, std::list<std::string>::iterator>> until;
  };
  std::size_t most_;
  Guarded<Table> table_;
};

}  // namespace jembatan::engine
