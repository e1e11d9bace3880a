#pragma once
// What waits at the nodes of one plan to be sent on, in their database: when a node is gone, another one
// takes its records and sends them.
#include <optional>

#include "shared/shared_store.h"

namespace jembatan::shared {

/// One node's connection. Calls may block, for as long as the network lets them: interrupt() ends that. One
/// thread at a time. Errors of all of them: Errc::unreachable.
class SharedQueue {
 public:
  /// errors  those of SharedStore::open
  static Result<std::unique_ptr<SharedQueue>> open(const Wish& wish, const std::string& plan);
  virtual ~SharedQueue() = default;

  /// This node is there: nobody takes its records, but who does so just now.
  virtual Status renew() = 0;

  // This node's own records.

  /// Puts up what waits here for a group; what is there already stays as it is.
  virtual Status put_up(const std::string& group, std::span<const accounting::Arrival> records) = 0;
  /// Takes down what waits no more: those of a group below a number, or all of them.
  virtual Status take_down(const std::string& group, std::optional<std::int64_t> below) = 0;
  /// The groups that something is up for.
  virtual Result<std::vector<std::string>> groups() = 0;
  /// A record of this node that another one sends on.
  struct HandedOver {
    std::int64_t id = 0;
    std::string group;
    accounting::Digest digest{};
    std::string node;  ///< that other one
    WallTime at;
  };
  struct Loss {
    std::vector<HandedOver> records;
    bool settled = true;  ///< false: there are more, or somebody is about to take some
  };
  virtual Result<Loss> handed_over(std::size_t most) = 0;
  /// They are off the queues here, too.
  virtual Status forget(std::span<const HandedOver> records) = 0;

  // Those of others.

  /// A record of a node that is gone, which nobody else can claim for a while.
  struct Claimed {
    std::int64_t node = 0;
    std::string name;  ///< of the node
    std::string group;
    accounting::Arrival arrival;  ///< with its number there
  };
  /// Claims records of nodes with the same plan that have not been seen for so long, the oldest of a
  /// group first.
  virtual Result<std::vector<Claimed>> claim(std::chrono::seconds silence, std::size_t most) = 0;
  /// They are this node's now: it has made them durable.
  virtual Status keep(std::span<const Claimed> records) = 0;
  /// Ends a call that blocks, with an error. Any thread.
  virtual void interrupt() = 0;

  /// So long is a claim good for.
  static constexpr std::chrono::seconds kClaimFor{30};
};

}  // namespace jembatan::shared
