#pragma once
// A plan that several nodes share, in their database: its changes one after the other, sealed with a key that
// the nodes alone have, and who has that key.
#include <chrono>
#include <memory>
#include <optional>

#include "shared/shared_store.h"

namespace jembatan::shared {

/// A change as it stands there.
struct SealedChange {
  std::uint64_t number = 0;
  std::string author;
  std::string action;
  std::string detail;
  std::string node;  ///< where it was made; for reading alone
  WallTime made{};
  Octets sealed;
};

/// A node that has a part in the plan, or asks for one.
struct Member {
  std::string node;
  Octets public_key;
  Octets wrapped_key;  ///< the plan's key, for this node alone; empty: it waits to be let in
};

/// One node's connection. Calls may block, for as long as the network lets them: interrupt() ends that. One
/// thread at a time. Errors of all of them: Errc::unreachable.
class SharedPlan {
 public:
  /// errors  those of SharedStore::open
  static Result<std::unique_ptr<SharedPlan>> open(const Wish& wish, const std::string& plan);
  virtual ~SharedPlan() = default;

  struct State {
    std::string origin;  ///< a text by chance; empty: nobody has begun the plan
    std::uint64_t change = 0;
  };
  virtual Result<State> state() = 0;
  /// Begins the plan, with its first changes, and with this node as its first member.
  ///   errors  Errc::conflict: somebody else was first
  virtual Status begin(const std::string& origin, const std::vector<SealedChange>& changes,
                       const Member& member) = 0;
  /// What this node is there; asks for a part in the plan if it is nothing yet.
  ///   public_key  the node's own
  virtual Result<Member> member(OctetView public_key) = 0;
  /// Those who wait to be let in.
  virtual Result<std::vector<Member>> waiting() = 0;
  /// Lets a node in.
  ///   errors  Errc::conflict: it asks with another key by now, or was let in by somebody else
  virtual Status admit(const Member& member, const std::string& by) = 0;
  /// Changes behind one, the oldest first.
  virtual Result<std::vector<SealedChange>> changes(std::uint64_t behind, std::size_t most) = 0;
  /// Makes the next change.
  ///   errors  Errc::conflict: another one has that number; Errc::unreachable: also if nobody can tell
  ///           whether it was made
  virtual Status add(const SealedChange& change) = 0;
  /// Whether this node is the first of the members that have been seen lately: it does what one has to do.
  virtual Result<bool> leads() = 0;
  /// Waits until something may have changed, or for so long.
  virtual Status wait(std::chrono::milliseconds at_most) = 0;
  /// Ends a call that blocks, with an error. Any thread.
  virtual void interrupt() = 0;
};

}  // namespace jembatan::shared
