#pragma once
#include <condition_variable>
#include <deque>
#include <functional>
#include <future>
#include <mutex>
#include <thread>

#include "engine/actions.h"
#include "shared/shared_codes.h"
#include "store/code_book.h"

namespace jembatan::server {

class EventLog;

/// Judges one-time codes by what has served before, on a thread of its own; what it finds is on the disk
/// before it is told. Of a plan that several nodes share, what has served at any of them is in their
/// database; while that is away, each node judges by what it has seen itself, and says so. Bounded.
class CodeJudge {
 public:
  using Told = std::function<void(engine::Judged)>;  ///< called on its thread
  using OpenShared = std::function<Result<std::unique_ptr<shared::SharedCodes>>()>;

  ///   open  called on a thread of its own; empty: the node shares no plan
  CodeJudge(std::unique_ptr<store::CodeBook> book, EventLog& events, OpenShared open = {});
  ~CodeJudge() { stop(); }

  /// False if too many wait already. Any thread.
  bool judge(engine::Job::Judge job, Told told);
  /// Those that wait are not judged any more.
  void stop();

  // For people. Any thread; they wait for a moment.

  ///   user  with the realm
  Result<identity::CodePage> page(const std::string& factor, const std::string& user);
  /// What would become of a code; nothing is noted.
  Result<identity::CodeVerdict> try_out(const engine::Job::Judge& job);
  /// Codes of the user are looked at again.
  ///   returns  whether they were not, or wrong ones had been counted
  Result<bool> unlock(const std::string& factor, const std::string& user);

 private:
  struct Waiting {
    engine::Job::Judge job;
    Told told;
  };
  using Change = std::function<void(identity::CodePage&)>;
  static constexpr std::size_t kMostWaiting = 4096;
  static constexpr std::size_t kMostTogether = 256;
  void run();
  void judge_all(std::vector<Waiting>& some);
  Result<identity::CodeVerdict> judged(const engine::Job::Judge& job);
  void tell_of_lock(const engine::Job::Judge& job, const identity::CodeVerdict& verdict);
  /// Changes the page that all nodes know, or, while it cannot be reached, this node's own.
  Status change(const store::CodeBook::Key& key, const Change& change);
  /// The same for all nodes; with an error, `page` is as it was.
  Status for_all(const store::CodeBook::Key& key, store::CodeBook::Page& page, const Change& change);
  void reach_shared();
  Status bring_up();
  void lost(const Error& why);

  EventLog& events_;
  OpenShared open_;
  std::mutex book_mutex_;  // of all that follows, up to the queue
  std::unique_ptr<store::CodeBook> book_;
  std::future<Result<std::unique_ptr<shared::SharedCodes>>> opening_;
  TimePoint open_again_at_{};
  bool told_of_loss_ = false;
  std::mutex shared_mutex_;  // of the pointer: a call that blocks is ended by another thread
  std::unique_ptr<shared::SharedCodes> shared_;
  std::mutex mutex_;
  std::condition_variable woken_;
  std::deque<Waiting> waiting_;
  bool stop_ = false;
  std::thread thread_;
};

}  // namespace jembatan::server
