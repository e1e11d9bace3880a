#pragma once
// How it stands with the servers of a plan, for people.
#include "forward/live_plan.h"

namespace jembatan::forward {

/// One server, for one purpose.
struct Standing {
  const plan::Group* group = nullptr;
  const plan::Server* server = nullptr;
  Purpose purpose{};
  ServerHealth::State state{};
  std::optional<WallTime> since;  ///< it is up again, or down; nothing: the node started
  std::string why;                ///< why it is not up; empty if it is
  std::optional<WallTime> last_answer;
  std::uint64_t requests = 0;  ///< of this group, that were given to it first, since the node started
  std::uint64_t attempts = 0;  ///< packets sent to it, whichever group it was asked for
  std::uint64_t answers = 0;   ///< genuine ones
  std::int64_t in_flight = 0;  ///< requests that wait for it
  ServerHealth::Recent recent;
  std::optional<std::chrono::microseconds> median;  ///< of the answers of the last minutes
  std::optional<std::chrono::microseconds> p99;     ///< within which 99 of 100 came
  double wanted = 0;  ///< its share of its group's requests as things stand: 0 to 1
  double share = 0;   ///< that it had since the node started; 0 if there were no requests
};

std::string_view name_of(ServerHealth::State state);  ///< "up", "doubted", "down"

/// Whether the plan sends requests of that kind to the group.
bool uses(const plan::Plan& plan, std::size_t group, Purpose purpose);

/// Every server of every group, for what the plan sends there or what it has been asked for; in the plan's
/// order.
std::vector<Standing> standings(const LivePlan& live, Now now);

}  // namespace jembatan::forward
