#pragma once
#include <condition_variable>
#include <functional>
#include <future>
#include <mutex>
#include <thread>

#include "accounting/known_records.h"
#include "accounting/store.h"
#include "base/slots.h"

namespace jembatan::server {

/// The one thread that makes accounting durable, in the inbox: what has come while the last commit ran goes
/// into the next one together. Resends are known before that. Replies are told only when the records are
/// durable.
class AccountingWriter {
 public:
  struct Job {
    std::size_t worker = 0;
    Ticket ticket;
    accounting::Incoming incoming;
  };
  struct Done {
    Ticket ticket;
    Result<accounting::Kept> kept;
  };
  struct Parts {
    std::unique_ptr<accounting::Inbox> inbox;
    accounting::KnownRecords known;
    std::int64_t last = 0;  ///< the highest id that was given so far
    /// Finds the record of the same event, where it is older than all that are known.
    std::function<Result<std::optional<std::int64_t>>(const accounting::Arrival&)> find_older;
    /// For each worker, what was kept for it. Called on the writer's thread.
    std::function<void(std::size_t worker, std::vector<Done>)> recorded;
    /// There is something new in the inbox.
    std::function<void()> kept;
  };

  explicit AccountingWriter(Parts parts);
  ~AccountingWriter();

  /// False if too much waits already: the record is not taken. Any thread.
  bool record(Job job);
  /// Makes records durable that nobody waits for with a ticket, and waits for that. Any thread but its own.
  ///   errors  Errc::io; Errc::unreachable: it ends, or too much waits already
  Status keep(std::vector<accounting::Incoming> records);
  /// The store has all records up to this one. Any thread.
  void filled(std::int64_t up_to);
  /// It has them for good: the inbox may forget them. Any thread.
  void settled(std::int64_t up_to);
  /// How many records are in the inbox alone. Any thread.
  std::uint64_t backlog() const;
  /// Why the last record could not be kept; empty if it was, or if that is a minute ago: who asks whether the
  /// node is ready may be who keeps records away from it. Any thread.
  std::string problem() const;
  /// Writes what waits, then ends the thread and closes the inbox.
  void stop();

  static constexpr std::uint64_t kMostBehind = 400'000;  ///< records that the store does not have yet

 private:
  static constexpr std::size_t kMostWaiting = 50000;
  static constexpr std::size_t kMostInOneCommit = 2000;
  static constexpr std::int64_t kForgetAtOnce =
      20000;  // records; fewer only when there is nothing else to do
  struct Order {
    std::vector<accounting::Incoming> records;
    std::promise<Status> done;
  };
  void run();
  void write(std::vector<Job> jobs);
  void write(Order& order);
  struct Written {
    std::vector<Result<accounting::Kept>> results;  // one for each
    Status status;
  };
  Written append(std::vector<accounting::Incoming> records);
  Result<std::optional<std::int64_t>> known(const accounting::Arrival& arrival);
  void remember(const Status& written);
  void forget(std::int64_t up_to);

  Parts parts_;
  mutable std::mutex mutex_;
  std::condition_variable arrived_;
  std::vector<Job> jobs_;
  std::vector<Order> orders_;
  std::int64_t settled_ = 0;
  std::int64_t forgotten_ = 0;  // the writer's alone
  std::atomic<std::int64_t> filled_;
  std::atomic<std::int64_t> last_;
  std::string problem_;
  std::chrono::steady_clock::time_point problem_at_;
  bool stop_ = false;
  std::thread thread_;
};

}  // namespace jembatan::server
