#pragma once
#include <condition_variable>
#include <functional>
#include <mutex>
#include <thread>

#include "accounting/store.h"
#include "base/slots.h"

namespace jembatan::server {

/// The one thread that writes accounting: what has come while the last commit ran goes into the next one
/// together. Replies are told only when the records are durable.
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
  struct Callbacks {
    /// For each worker, what was kept for it. Called on the writer's thread.
    std::function<void(std::size_t worker, std::vector<Done>)> recorded;
    /// Something was put into the queue of records to send on.
    std::function<void()> queued;
    /// Places were taken off that queue, or could not be.
    std::function<void(std::vector<std::int64_t>, Status)> taken_off;
  };

  AccountingWriter(std::unique_ptr<accounting::Store> store, Callbacks callbacks);
  ~AccountingWriter();

  /// False if too much waits already: the record is not taken. Any thread.
  bool record(Job job);
  /// Takes places off the queue of records to send on. Any thread.
  void delivered(std::vector<std::int64_t> places);
  /// Why the last record could not be kept; empty if it was, or if that is a minute ago: who asks whether the
  /// node is ready may be who keeps records away from it. Any thread.
  std::string problem() const;
  /// Writes what waits, then ends the thread and closes the store.
  void stop();

 private:
  static constexpr std::size_t kMostWaiting = 50000;
  static constexpr std::size_t kMostInOneCommit = 2000;
  void run();
  void write(std::vector<Job> jobs);
  void take_off(std::vector<std::int64_t> places);

  std::unique_ptr<accounting::Store> store_;
  Callbacks callbacks_;
  mutable std::mutex mutex_;
  std::condition_variable arrived_;
  std::vector<Job> jobs_;
  std::vector<std::int64_t> delivered_;
  std::string problem_;
  std::chrono::steady_clock::time_point problem_at_;
  bool stop_ = false;
  std::thread thread_;
};

}  // namespace jembatan::server
