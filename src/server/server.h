#pragma once
#include "server/deliverer.h"
#include "server/node_file.h"
#include "server/worker.h"

namespace jembatan::server {

/// What a node says about itself.
struct NodeStatus {
  std::string name;
  std::string version;
  std::uint64_t plan_revision = 0;
  std::chrono::seconds up{0};
  std::size_t workers = 0;
  std::uint64_t received = 0;
  std::vector<std::pair<engine::Outcome, std::uint64_t>> outcomes;
  std::size_t in_flight = 0;
  std::size_t accounting_under_way = 0;
  std::uint64_t events_shed = 0;
};

/// One running node: workers, accounting, log. Made by start(), ended by stop(); the other calls from any
/// thread.
class Server {
 public:
  /// Reads the plan, opens the store and the sockets, starts the threads.
  ///   problems  what is wrong with the plan, if that is the reason
  ///   errors    Errc::malformed (plan), Errc::conflict (a port or the data folder is in use), Errc::io
  static Result<std::unique_ptr<Server>> start(NodeSettings settings, document::Problems& problems);
  ~Server();

  /// Reads the plan folder again; with an error the active plan stays in force.
  ///   returns  the revision in force
  Result<std::uint64_t> reload(document::Problems& problems);
  NodeStatus status() const;
  forward::LivePlanPtr plan() const { return plan_.current(); }
  Feed& feed() { return feed_; }
  Tap& tap() { return tap_; }
  const NodeSettings& settings() const { return settings_; }
  /// A connection of its own to the accounting store, for reading.
  Result<std::unique_ptr<accounting::Store>> open_accounting() const;
  /// Writes the process number into the data folder's lock file: the node is up. It goes with the lock.
  Status announce();
  /// Answers what is under way, writes what waits, closes the store.
  void stop();

 private:
  explicit Server(NodeSettings settings);
  Status lock_data_folder();
  Status open_store();
  Status open_sockets();
  void start_threads();

  NodeSettings settings_;
  TimePoint started_;
  int lock_ = -1;
  forward::HealthBoard healths_;
  PlanSlot plan_;
  Feed feed_;
  Tap tap_;
  std::mutex reload_mutex_;
  std::unique_ptr<EventLog> events_;
  std::unique_ptr<ProofPool> proofs_;
  std::unique_ptr<accounting::Store> store_;  // until the writer takes it
  std::unique_ptr<accounting::Store> queue_;  // until the deliverer takes it
  std::unique_ptr<AccountingWriter> writer_;
  std::unique_ptr<Deliverer> deliverer_;
  std::vector<std::vector<Listener>> sockets_;  // by worker, until the workers take them
  std::vector<std::unique_ptr<Worker>> workers_;
};

}  // namespace jembatan::server
