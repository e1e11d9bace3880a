#pragma once
#include "server/database_thread.h"
#include "server/event_log.h"
#include "shared/shared_store.h"

namespace jembatan::server {

/// The thread that brings what the accounting store has to the database that nodes share: in the order of
/// its numbers, each record once. While the database is away, records wait where they are.
class Sharer {
 public:
  struct Parts {
    shared::Wish wish;
    std::string version;
    std::function<std::uint64_t()> revision;  ///< of the plan in force
    /// The records behind one, the oldest first.
    std::function<Result<std::vector<accounting::Record>>(std::int64_t behind, std::size_t most)> records;
    std::function<Result<std::int64_t>()> last;  ///< the number of the last record
    /// The plan that this node shares with others, whose sessions are this node's as well; empty: none.
    std::string plan;
    std::function<Result<std::int64_t>(std::int64_t node)> heard;
    std::function<Status(std::int64_t node, std::span<const accounting::Record>)> hear;
    std::chrono::seconds silence;  ///< no session of which nothing was heard for so long lasts
    EventLog& events;
  };
  explicit Sharer(Parts parts);

  void start() { thread_.start(); }
  /// There are new records. Any thread.
  void look() { thread_.look(); }
  /// Why records do not reach the database, and since when; empty if they do. Any thread.
  std::string problem() const { return thread_.problem(); }
  /// All nodes, as the database knows them; by a connection of its own. Any thread, which may be blocked.
  Result<std::vector<shared::Node>> nodes() const;
  /// What all nodes have of a session; likewise.
  Result<std::vector<accounting::Record>> records_of(const accounting::Session& session) const;
  void stop() { thread_.stop(); }

 private:
  using Steady = std::chrono::steady_clock;
  Result<std::unique_ptr<shared::SharedStore>> open();
  Status turn(shared::SharedStore& store);
  /// Brings what there is to the database.
  ///   errors  of the database; Errc::io: of the node's own store
  Status bring(shared::SharedStore& store);
  Status report(shared::SharedStore& store);
  /// Takes over what other nodes of the plan have recorded.
  Status hear(shared::SharedStore& store);
  Status hear(shared::SharedStore& store, const shared::SharedStore::Other& other);
  void tell(engine::Weight weight, std::string text);

  Parts parts_;
  // The thread's alone.
  std::int64_t behind_ = 0;     // the last record that was brought
  std::int64_t all_up_to_ = 0;  // there was nothing else to bring up to this one
  std::uint64_t brought_ = 0;   // since it was connected
  Steady::time_point report_at_;
  struct Heard {
    std::int64_t last = 0;
    WallTime received;  // of that
  };
  std::map<std::int64_t, Heard> heard_;  // by node
  DatabaseThread<shared::SharedStore> thread_;
};

}  // namespace jembatan::server
