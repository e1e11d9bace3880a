#pragma once
// What nodes that share a plan tell each other, and how they agree on it.
#include <memory>
#include <variant>

#include "revision/archive.h"

namespace jembatan::revision {

/// A revision, with the objects that its changes lead into.
struct SharedRevision {
  Commit commit;
  std::shared_ptr<const Objects> objects;
};
struct SharedToken {
  Token token;
  Octets hash;
};
struct RevokedToken {
  std::string name;
  WallTime at{};
};

/// One change, of all nodes that share the plan.
struct SharedChange {
  std::variant<SharedRevision, SharedToken, RevokedToken> what;
  AuditEntry audit;  ///< as it stands in the record of the node where it was made
};

/// As octets, and back. Secrets in it are sealed already; the whole is to be sealed, too.
Octets packed(const SharedChange& change);
/// errors  Errc::malformed: it is of another version, or damaged
Result<SharedChange> unpacked(OctetView octets);

/// The others that share the plan: what changes it is everybody's before it is this node's.
class Agreement {
 public:
  virtual ~Agreement() = default;
  /// Makes it the next change, if the last one is number `behind`.
  ///   returns  its number
  ///   errors   Errc::conflict: somebody else changed something meanwhile, or this node has no part in the
  ///            plan yet; Errc::unreachable: nobody can be asked
  virtual Result<std::uint64_t> agree(std::uint64_t behind, const SharedChange& change) = 0;
};

/// What a node knows of the plan that it shares.
struct Membership {
  std::string plan;          ///< its name
  std::string origin;        ///< a text by chance, of the plan's beginning
  Octets key;                ///< the plan's key, sealed with the node's own
  std::uint64_t change = 0;  ///< the last that this node has
};

}  // namespace jembatan::revision
