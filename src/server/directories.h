#pragma once
#include <map>

#include "server/directory_pool.h"

namespace jembatan::server {

class EventLog;

/// The directories of the plan in force, each with its threads.
class Directories {
 public:
  explicit Directories(EventLog& events) : events_(events) {}
  ~Directories();

  /// The plan that is about to be in force. Who waits for a directory that it has lost, or asks by more
  /// or fewer connections, is told by the old threads.
  void use(const plan::Plan& plan);
  /// Any thread; `told` as in DirectoryPool.
  void look_up(engine::Job::LookUp job, DirectoryPool::Told told);
  /// Nobody remembers who this is, in any directory. Any thread.
  std::size_t forget(const std::string& name);
  /// How a directory of the plan in force stands; without servers if it has not got one yet. Any thread.
  DirectoryStanding standing(const plan::Directory& directory) const;
  void stop();

 private:
  std::shared_ptr<DirectoryPool> pool_of(const std::string& name) const;

  EventLog& events_;
  mutable std::mutex mutex_;
  std::map<std::string, std::shared_ptr<DirectoryPool>> pools_;
  std::vector<std::shared_ptr<DirectoryPool>> leaving_;
};

}  // namespace jembatan::server
