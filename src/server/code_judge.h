#pragma once
#include <condition_variable>
#include <deque>
#include <functional>
#include <mutex>
#include <thread>

#include "engine/actions.h"
#include "store/code_book.h"

namespace jembatan::server {

class EventLog;

/// Judges one-time codes by what has served before, on a thread of its own; what it finds is on the disk
/// before it is told. Bounded.
class CodeJudge {
 public:
  using Told = std::function<void(engine::Judged)>;  ///< called on its thread

  CodeJudge(std::unique_ptr<store::CodeBook> book, EventLog& events);
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
  static constexpr std::size_t kMostWaiting = 4096;
  static constexpr std::size_t kMostTogether = 256;
  void run();
  void judge_all(std::vector<Waiting>& some);
  Result<identity::CodeVerdict> judged(const engine::Job::Judge& job, bool note);
  void tell_of_lock(const engine::Job::Judge& job, const identity::CodeVerdict& verdict);

  EventLog& events_;
  std::mutex book_mutex_;
  std::unique_ptr<store::CodeBook> book_;
  std::mutex mutex_;
  std::condition_variable woken_;
  std::deque<Waiting> waiting_;
  bool stop_ = false;
  std::thread thread_;
};

}  // namespace jembatan::server
