#pragma once
#include <deque>

#include "base/guarded.h"
#include "base/owner.h"
#include "engine/crossings.h"
#include "engine/loop_mark.h"

namespace jembatan::engine {

/// How what goes to a group compares with what another group would have answered, since the node started.
struct MirrorTally {
  struct Example {
    WallTime at{};
    std::string user;
    std::string client;
    std::string text;  ///< what differs
  };
  std::string of;  ///< "group reef-homes", "route new ships"
  std::string to;  ///< the group that is compared with it
  std::uint64_t same = 0;
  std::uint64_t differed = 0;
  std::uint64_t unanswered = 0;                  ///< by the mirror
  std::uint64_t shed = 0;                        ///< not sent, for want of room
  std::map<std::string, std::uint64_t> by_what;  ///< "code", "Filter-Id"
  std::deque<Example> examples;                  ///< the latest first, few
};

/// Whose mirror it is, as tallies call it.
std::string mirror_name(const plan::Group& group);
std::string mirror_name(const plan::Route& route);
/// The mirrors of a plan, with nothing counted.
std::vector<MirrorTally> mirrors_in(const plan::Plan& plan);

/// Sends copies of requests that have been answered to other groups, and compares what those answer. Belongs
/// to one thread; nobody waits for it.
class Mirroring final : private Composer {
 public:
  ///   loop_mark  that of the node
  ///   most       copies under way
  Mirroring(Random& random, Counters& counters, std::shared_ptr<const LoopMark> loop_mark, std::size_t most);

  void offer(Actions::Copy copy, const Turn& turn);
  /// A copy that there was no room for. Any thread.
  void shed(const Actions::Copy& copy);
  void on_reply(std::uint16_t lane, const Endpoint& from, OctetView octets, const Turn& turn);
  void on_timer(const Turn& turn);
  std::optional<TimePoint> next_deadline() { return crossings_.next_deadline(); }

  std::size_t under_way() const { return sent_.taken(); }
  /// Any thread.
  std::vector<MirrorTally> tallies() const;

 private:
  struct Sent {
    Actions::Copy copy;
    std::optional<decide::Course> course;
  };
  using Difference = std::pair<std::string, std::string>;  // of what, and in words
  Status compose(Ticket owner, const plan::Server& server, const wire::Authenticator& authenticator,
                 wire::PacketBuilder& out) override;
  std::vector<Difference> differences(const Actions::Copy& copy, const Crossings::Arrived& arrived) const;
  void end(Ticket ticket);

  Owner owner_;
  Random& random_;
  std::shared_ptr<const LoopMark> loop_mark_;
  Slots<Sent> sent_;
  Crossings crossings_;
  using Key = std::pair<std::string, std::string>;  // of, to
  mutable Guarded<std::map<Key, MirrorTally>> tallies_;
};

}  // namespace jembatan::engine
