#pragma once
// Host names of clients, also while nobody can look them up.
#include <functional>
#include <map>
#include <mutex>
#include <string>

#include "base/ip.h"
#include "plan/plan.h"

namespace jembatan::server {

/// Asks the system's resolver; the first address counts. Blocks: never called on a network thread.
///   errors  Errc::not_found with what the resolver says
Result<IpAddress> look_up(const std::string& host);

/// Looks names up; while that fails, the address that a plan in force had is used, with a warning. Belongs to
/// the server; any thread may call it.
class HostNames {
 public:
  using LookUp = std::function<Result<IpAddress>(const std::string&)>;
  explicit HostNames(LookUp look_up) : look_up_(std::move(look_up)) {}

  ///   errors  those of looking up, for a name that was never found
  Result<IpAddress> address_of(const std::string& host);
  /// The addresses that the clients of a plan have.
  void remember(const plan::Plan& plan);

 private:
  LookUp look_up_;
  std::mutex mutex_;  // of known_
  std::map<std::string, IpAddress> known_;
};

}  // namespace jembatan::server
