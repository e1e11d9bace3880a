#pragma once
// Host names of clients and servers: looked up, looked up again, and known while nobody can look them up.
#include <functional>
#include <map>
#include <mutex>
#include <optional>
#include <string>

#include "base/clock.h"
#include "host/name_lookup.h"
#include "plan/plan.h"

namespace jembatan::server {

/// Looks names up; while that fails, the addresses that a plan in force had are used, with a warning. Belongs
/// to the server; any thread may call it.
class HostNames {
 public:
  /// Blocks: called on no network thread, and never while the others wait for this object.
  using LookUp = std::function<Result<host::FoundAddresses>(const std::string&)>;
  HostNames(LookUp look_up, const Clock& clock) : look_up_(std::move(look_up)), clock_(clock) {}

  ///   errors  those of looking up, for a name that was never found
  Result<std::vector<IpAddress>> addresses_of(const std::string& host);
  /// The same by what was found last, without asking anybody, for names of the plan in force.
  Result<std::vector<IpAddress>> known_addresses_of(const std::string& host);
  /// The names of a plan in force, and the addresses that they have in it. Others are forgotten.
  void remember(const plan::Plan& plan);

  /// Looks up again what is due; true if a name of the plan in force leads elsewhere now.
  bool look_again();
  /// When something is due: by its TTL, but not before half a minute, later for what changes each time; empty
  /// while the plan in force has no host name.
  std::optional<TimePoint> next_due() const;

 private:
  struct Known {
    std::vector<IpAddress> addresses;
    TimePoint due;
    Duration pause{0};    ///< the shortest until it is looked up again
    bool warned = false;  ///< that it cannot be looked up
  };
  Result<host::FoundAddresses> ask_for(const std::string& host) const;
  bool note(const std::string& host, const Result<host::FoundAddresses>& found);

  LookUp look_up_;
  const Clock& clock_;
  mutable std::mutex mutex_;  // of known_
  std::map<std::string, Known> known_;
};

}  // namespace jembatan::server
