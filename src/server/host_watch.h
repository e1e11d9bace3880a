#pragma once
#include <condition_variable>
#include <thread>

#include "server/host_names.h"

namespace jembatan::server {

/// Looks host names up again when their time has come, on a thread of its own.
class HostWatch {
 public:
  /// moved  called on that thread when a name leads elsewhere; false: again when one is looked up next
  HostWatch(HostNames& names, std::function<bool()> moved) : names_(names), moved_(std::move(moved)) {}
  ~HostWatch() { stop(); }

  void start();
  /// Other names may be in force.
  void look();
  void stop();

 private:
  void run();

  HostNames& names_;
  std::function<bool()> moved_;
  std::mutex mutex_;  // of the two that follow
  bool look_ = false;
  bool stop_ = false;
  std::condition_variable changed_;
  std::thread thread_;
};

}  // namespace jembatan::server
