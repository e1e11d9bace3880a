#include "engine/progress.h"

#include <cmath>

namespace jembatan::engine {
namespace {

constexpr double kSeconds = 10;  // what was so long ago counts a third

}  // namespace

double Progress::decayed(const Kept& kept, TimePoint now) {
  const std::chrono::duration<double> age = now - kept.counted;
  return kept.told.per_second * std::exp(-age.count() / kSeconds);
}

void Progress::acknowledged(const std::string& group, Now now) {
  auto groups = groups_.lock();
  Kept& kept = (*groups)[group];
  kept.told.per_second = decayed(kept, now.steady) + 1 / kSeconds;
  kept.counted = now.steady;
  ++kept.told.acknowledged;
  kept.told.last = now.wall;
  kept.told.problem.clear();
  kept.told.problem_since.reset();
}

void Progress::failed(const std::string& group, const std::string& why, Now now) {
  auto groups = groups_.lock();
  Kept& kept = (*groups)[group];
  if (!kept.told.problem_since) kept.told.problem_since = now.wall;
  kept.told.problem = why;
}

std::map<std::string, Progress::OfGroup> Progress::all(Now now) const {
  std::map<std::string, OfGroup> out;
  auto groups = groups_.lock();
  for (const auto& [name, kept] : *groups) {
    out[name] = kept.told;
    out[name].per_second = decayed(kept, now.steady);
  }
  return out;
}

}  // namespace jembatan::engine
