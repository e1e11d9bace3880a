#pragma once
// The database that several nodes share: PostgreSQL, or what speaks its protocol.
#include <memory>
#include <span>
#include <string>
#include <vector>

#include "accounting/store.h"

namespace jembatan::shared {

/// Where it is, and who uses it.
struct Wish {
  std::string database;  ///< a connection string of libpq: "postgresql://keeper@db.harbour.example/ferries"
  std::string node;      ///< its name, for people
  std::string origin;    ///< of the node's records: another one when their numbers begin anew
};

/// What a node says of itself.
struct Report {
  std::string version;
  std::uint64_t revision = 0;  ///< of the plan in force
  std::uint64_t backlog = 0;   ///< records that are still to come, about
};

/// A node that has used the database.
struct Node : Report {
  std::int64_t number = 0;
  std::string name;
  WallTime seen;  ///< by the database's clock
  std::chrono::seconds silent{0};
  std::int64_t last_record = 0;
  std::uint64_t waiting = 0;  ///< records that wait there to be sent on, for longer than a moment
  std::string plan;           ///< that it shares with others; may be empty
  Octets waits_with;          ///< its public key, if it waits to be let in to that
};

/// Whether a text is a connection string at all; whose mistakes would quote it, with its password.
bool is_connection_string(const std::string& text);

/// One node's connection. Calls may block, for as long as the network lets them: interrupt() ends that. One
/// thread at a time.
class SharedStore {
 public:
  /// Connects, makes the tables or those of today out of older ones, and makes the node known.
  ///   errors  Errc::malformed: the connection string is none; Errc::unreachable: the database cannot be
  ///   reached, or refuses; Errc::conflict: a newer version
  ///           made its tables, or it has no UTF-8; never with what the connection string has of a password
  static Result<std::unique_ptr<SharedStore>> open(const Wish& wish);
  virtual ~SharedStore() = default;

  /// The number of the node's last record that the database has; 0: none.
  virtual Result<std::int64_t> last() = 0;
  /// A record that the database does not take, whatever is done.
  struct Refused {
    std::int64_t id = 0;
    std::string why;
  };
  /// Puts records in, whose numbers grow, all in one transaction; those up to last() are passed over.
  ///   returns  those that it cannot take: they are passed over from now on
  ///   errors   Errc::unreachable: none is in
  virtual Result<std::vector<Refused>> add(std::span<const accounting::Record> records) = 0;
  /// Tells how the node is, now.
  virtual Status report(const Report& report) = 0;
  /// Another node that has a part in the same plan.
  struct Other {
    std::int64_t number = 0;
    std::int64_t last_record = 0;  ///< that the database has of it
  };
  virtual Result<std::vector<Other>> others(const std::string& plan) = 0;
  /// Records of a node behind one, the oldest first.
  ///   from  those that were received earlier by a day and more are not looked for
  virtual Result<std::vector<accounting::Record>> records(std::int64_t node, std::int64_t behind,
                                                          WallTime from, std::size_t most) = 0;
  /// The last record of a node that was received before then; 0: none.
  virtual Result<std::int64_t> last_before(std::int64_t node, WallTime then) = 0;
  /// What all nodes have of a session, the oldest first.
  virtual Result<std::vector<accounting::Record>> records_of(const accounting::Session& session) = 0;
  /// All nodes, by name; of one whose numbers began anew, the newest.
  virtual Result<std::vector<Node>> nodes() = 0;
  /// Ends a call that blocks, with an error. Any thread.
  virtual void interrupt() = 0;
};

}  // namespace jembatan::shared
