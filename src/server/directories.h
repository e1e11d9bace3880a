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

  /// The plan that is about to be in force. It may wait for a directory that the plan has lost to end what it
  /// does: not on a network thread.
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
};

}  // namespace jembatan::server
