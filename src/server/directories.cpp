#include "server/directories.h"

#include <algorithm>

#include "server/event_log.h"

namespace jembatan::server {

Directories::~Directories() {
  stop();
}

void Directories::use(const plan::Plan& plan) {
  const std::lock_guard lock(mutex_);
  auto old = std::exchange(pools_, {});
  for (const plan::Directory& directory : plan.directories) {
    auto& pool = pools_[directory.name];
    const auto same = old.find(directory.name);
    if (same != old.end() && same->second->threads() == directory.connections) {
      pool = std::move(same->second);
      old.erase(same);
    } else {
      pool = std::make_shared<DirectoryPool>(
          directory.name, directory.connections,
          [this](engine::Weight weight, std::string subject, std::string text) {
            events_.tell(weight, std::move(subject), std::move(text));
          });
    }
  }
  std::erase_if(leaving_, [](const auto& pool) { return pool->has_left(); });
  for (auto& [name, pool] : old) {
    pool->leave();
    leaving_.push_back(std::move(pool));
  }
}

std::shared_ptr<DirectoryPool> Directories::pool_of(const std::string& name) const {
  const std::lock_guard lock(mutex_);
  const auto found = pools_.find(name);
  return found == pools_.end() ? nullptr : found->second;
}

void Directories::look_up(engine::Job::LookUp job, DirectoryPool::Told told) {
  if (const auto pool = pool_of(job.plan->directories[job.directory].name))
    return pool->look_up(std::move(job), std::move(told));
  decide::Person out;
  out.why = "the plan has lost it meanwhile";
  told({std::make_shared<const decide::Person>(std::move(out)), {}});
}

std::size_t Directories::forget(const std::string& name) {
  std::map<std::string, std::shared_ptr<DirectoryPool>> pools;
  {
    const std::lock_guard lock(mutex_);
    pools = pools_;
  }
  std::size_t out = 0;
  for (const auto& [directory, pool] : pools) out += pool->forget(name);
  return out;
}

DirectoryStanding Directories::standing(const plan::Directory& directory) const {
  const auto pool = pool_of(directory.name);
  return pool == nullptr ? DirectoryStanding{} : pool->standing(directory);
}

void Directories::stop() {
  std::vector<std::shared_ptr<DirectoryPool>> all;
  {
    const std::lock_guard lock(mutex_);
    all = std::exchange(leaving_, {});
    for (auto& [name, pool] : std::exchange(pools_, {})) all.push_back(std::move(pool));
  }
  for (const auto& pool : all) pool->stop();
}

}  // namespace jembatan::server
