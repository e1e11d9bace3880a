#pragma once
#include <mutex>

#include "accounting/store.h"
#include "engine/conversations.h"
#include "engine/mirroring.h"
#include "engine/online.h"
#include "engine/progress.h"
#include "host/node_file.h"
#include "host/system.h"
#include "revision/keeper.h"
#include "server/feed.h"
#include "server/host_watch.h"
#include "server/past_requests.h"
#include "server/plan_slot.h"
#include "server/tally.h"
#include "server/tap.h"
#include "server/unmask.h"
#include "shared/shared_store.h"

namespace jembatan::engine {
class Remembered;
class Slowdown;
}  // namespace jembatan::engine

namespace jembatan::store {
class PlanStore;
}

namespace jembatan::server {

class AccountingWriter;
class Authorizer;
class Deliverer;
class EventLog;
class Filler;
class JournalWriter;
class Mirror;
class PlanSharer;
class QueueSharer;
class Prober;
class CodeJudge;
class Directories;
class ProofPool;
class Sharer;
class Worker;
struct Listener;

/// What a node says about itself.
struct NodeStatus {
  std::string name;
  std::string version;
  std::uint64_t plan_revision = 0;
  std::chrono::seconds up{0};
  std::size_t workers = 0;
  std::uint64_t received = 0;
  std::vector<std::pair<engine::Outcome, std::uint64_t>> outcomes;
  std::size_t conversations = 0;               ///< of several rounds, that wait for the next
  std::uint64_t conversations_pushed_out = 0;  ///< ended early for want of room
  std::uint64_t late = 0;                      ///< results of work that nobody waited for any more
  std::size_t in_flight = 0;
  std::size_t accounting_under_way = 0;
  std::uint64_t accounting_backlog = 0;  ///< records that are acknowledged and not in the store yet
  std::uint64_t events_shed = 0;
  std::uint64_t journal_shed = 0;
  std::string degraded;                         ///< Server::degraded
  std::optional<WallTime> certificate_expires;  ///< of the management interface; empty: it has none
};

/// One running node: workers, accounting, log. Made by start(), ended by stop(); the other calls from any
/// thread.
class Server {
 public:
  /// Reads the plan, opens the store and the sockets, starts the threads.
  ///   problems  what is wrong with the plan, if that is the reason
  ///   errors    Errc::malformed (plan), Errc::conflict (a port or the data folder is in use), Errc::io
  static Result<std::unique_ptr<Server>> start(host::NodeSettings settings, document::Problems& problems);
  ~Server();

  /// Reads the plan folder again: if it has changed, the next revision is made out of it. With an error the
  /// plan in force stays.
  ///   errors  also Errc::not_allowed: there is no plan folder
  ///           Errc::conflict: the files change while they are read, or most clients would be gone and it is
  ///           not forced
  struct Reload {
    bool force = false;
    bool dry_run = false;  ///< find out what would change
  };
  Result<revision::Applied> reload(const revision::Author& author, document::Problems& problems, Reload how);
  /// Changes the plan by `change`, one at a time; what it makes is in force when this returns.
  ///   errors  Errc::not_allowed: the plan comes from a folder; otherwise those of `change`
  Result<revision::Applied> change_plan(
      const std::function<Result<revision::Applied>(revision::Keeper&)>& change);
  /// Runs `look` with the revisions, between changes.
  template <class Look>
  auto with_revisions(Look look) {
    const std::lock_guard lock(plan_mutex_);
    return look(*keeper_);
  }
  /// Runs `look` with a connection of its own to the revisions' store: not held up by changes.
  template <class Look>
  auto with_archive(Look look) {
    const std::lock_guard lock(archive_mutex_);
    return look(*archive_);
  }
  /// The journal, which has what happened so far.
  PastRequests& past_requests() {
    settle();
    return *past_requests_;
  }
  // Parts that may be called from any thread themselves.
  const decide::Elsewhere& online() const { return *online_; }
  /// How sending accounting on goes, group by group.
  std::map<std::string, engine::Progress::OfGroup> accounting_progress() const;
  Prober& prober() { return *prober_; }
  Directories& directories() const { return *directories_; }
  CodeJudge& codes() const { return *codes_; }
  engine::Slowdown& slowdown() const { return *slowdown_; }
  Authorizer& authorizer() { return *authorizer_; }
  /// What mirrored requests were answered: the mirrors of the plan in force, then those that are gone.
  std::vector<engine::MirrorTally> mirrors() const;
  Unmask& unmask() { return unmask_; }
  HostNames& hosts() { return hosts_; }
  const Tally& tally() const { return tally_; }
  Feed& feed() { return feed_; }
  Tap& tap() { return tap_; }
  const host::NodeSettings& settings() const { return settings_; }

  /// Counts of all threads, as they are at this moment.
  NodeStatus status() const;
  /// The plan in force.
  forward::LivePlanPtr plan() const { return plan_.current(); }
  /// Runs `look` with a connection of its own to the accounting store, which only reads; what was
  /// acknowledged so far is in it. It may take long: it holds nobody up.
  ///   look  returns a Result or a Status
  template <class Look>
  auto with_accounting(Look look) -> decltype(look(std::declval<accounting::Store&>())) {
    catch_up();
    auto reader = accounting_reader();
    if (!reader) return reader.error();
    auto out = look(**reader);
    put_back(std::move(*reader));
    return out;
  }
  /// What was received of a session, the oldest first; of one that began at another node, what all have.
  ///   errors  also Errc::unreachable: the database that nodes share
  Result<std::vector<accounting::Record>> records_of(const accounting::Session& session);
  /// Changes what waits to be sent on: for a group, to another one or to nobody.
  ///   returns  how many records
  Result<std::uint64_t> redirect_accounting(const std::string& group, const std::optional<std::string>& to);
  /// What does not work while requests are answered as they should be; empty: nothing.
  std::string degraded() const;
  /// The nodes that share the database.
  ///   errors  Errc::conflict: this node shares none; those of shared::SharedStore
  Result<std::vector<shared::Node>> shared_nodes() const;
  /// Lets another node have a part in the plan that this one shares.
  ///   fingerprint  of the key that it asks with
  ///   errors  Errc::conflict: this node shares none; those of PlanSharer::admit
  Status admit_node(const std::string& name, const std::string& fingerprint, const std::string& by);
  /// `look` is called when another node has changed the tokens; null: nobody is.
  void on_new_tokens(std::function<void()> look);
  /// Why requests would not be answered as they should now; empty if they would.
  std::string why_not_ready() const;
  /// Writes the process number into the data folder's lock file: the node is up. It goes with the lock.
  Status announce();
  /// Answers what is under way, writes what waits, closes the store.
  void stop();

 private:
  /// Waits for what has happened so far to be in the journal.
  void settle();
  /// Waits for what was acknowledged so far to be in the accounting store.
  void catch_up();
  Result<std::unique_ptr<accounting::Store>> accounting_reader();
  void put_back(std::unique_ptr<accounting::Store> reader);
  Status start_accounting();
  Status share_accounting();
  void share_queues(shared::Wish wish);
  Status share_plan(const revision::SealKey& own);
  Result<shared::Wish> shared_wish();
  /// Puts what other nodes have changed into force.
  Status take_over_plan();
  explicit Server(host::NodeSettings settings);
  Status lock_data_folder();
  Status open_store();
  Status open_journal();
  Status open_codes();
  /// The one in force, or one that was.
  Result<plan::PlanPtr> plan_of(std::uint64_t revision);
  Status open_plan(document::Problems& problems);
  void put_into_force(const revision::Applied& applied);
  /// Host names lead elsewhere: that becomes a revision.
  ///   returns  false: another node is to make it, for all that share the plan; maybe this one later
  bool follow_host_names();
  Status open_sockets();
  Status look_at_certificate();
  /// Says once a day what will soon be too late.
  void warn_of_certificate(WallTime now);
  Status start_threads();

  host::NodeSettings settings_;
  TimePoint started_;
  int lock_ = -1;
  forward::HealthBoard healths_;
  PlanSlot plan_;
  Feed feed_;
  Tap tap_;
  Tally tally_;
  host::SystemRandom random_;  // under plan_mutex_
  std::mutex plan_mutex_;
  std::atomic<bool> stopping_{false};
  host::SystemClock clock_;
  HostNames hosts_{[this](const std::string& host) { return host::look_up(host, {"", &stopping_}); }, clock_};
  std::unique_ptr<HostWatch> host_watch_;
  std::shared_ptr<engine::Online> online_ = std::make_shared<engine::Online>();
  std::shared_ptr<engine::Conversations> conversations_ = std::make_shared<engine::Conversations>();
  std::unique_ptr<PlanSharer> plan_sharer_;  // null: the plan is this node's own
  host::SystemRandom sharing_random_;        // the sharer's alone
  std::mutex tokens_mutex_;
  std::function<void()> new_tokens_;
  std::unique_ptr<revision::Archive> plan_store_;
  std::unique_ptr<revision::Keeper> keeper_;
  std::mutex archive_mutex_;
  std::unique_ptr<revision::Archive> archive_;
  std::mutex accounting_mutex_;
  std::vector<std::unique_ptr<accounting::Store>> accounting_readers_;  // that nobody uses at the moment
  std::unique_ptr<PastRequests> past_requests_;
  Unmask unmask_;
  std::optional<WallTime> certificate_expires_;
  WallTime certificate_told_{};  // used by the log's thread alone
  std::unique_ptr<JournalWriter> journal_writer_;
  std::unique_ptr<EventLog> events_;
  std::unique_ptr<ProofPool> proofs_;
  std::unique_ptr<Directories> directories_;
  std::shared_ptr<engine::Slowdown> slowdown_;
  std::shared_ptr<engine::Remembered> remembered_;
  std::unique_ptr<CodeJudge> codes_;
  std::unique_ptr<accounting::Store> store_;  // until the filler takes it
  std::unique_ptr<Filler> filler_;
  std::unique_ptr<AccountingWriter> writer_;
  std::unique_ptr<Sharer> sharer_;             // null: the node shares nothing
  std::unique_ptr<QueueSharer> queue_sharer_;  // null: the plan is this node's own
  std::unique_ptr<Prober> prober_;
  std::unique_ptr<Deliverer> deliverer_;
  std::unique_ptr<Mirror> mirror_;
  std::vector<Listener> session_sockets_;  // until the authorizer takes them
  std::unique_ptr<Authorizer> authorizer_;
  std::vector<std::vector<Listener>> sockets_;  // by worker, until the workers take them
  std::vector<std::unique_ptr<Worker>> workers_;
};

}  // namespace jembatan::server
