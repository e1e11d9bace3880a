#pragma once
#include <atomic>
#include <condition_variable>
#include <deque>
#include <mutex>
#include <thread>
#include <unordered_map>

#include "directory/look_up.h"
#include "engine/actions.h"

namespace jembatan::server {

/// How a directory stands.
struct DirectoryStanding {
  struct Server {
    std::string url;
    std::string why;  ///< it does not answer; empty: it does, or was not asked yet
    std::optional<WallTime> since;
  };
  std::string name;
  std::vector<Server> servers;
  std::size_t waiting = 0;      ///< people whose turn has not come
  std::size_t remembered = 0;   ///< people
  std::uint64_t looked_up = 0;  ///< by a server
  std::uint64_t by_memory = 0;  ///< without asking who it is
  std::uint64_t unanswered = 0;
};

/// The threads that ask one directory, each with connections of its own, and what is remembered of its
/// people. A directory that is silent holds nobody but those who are looked for in it: it is asked by one
/// of them now and then, and the others are told at once. One person whom it cannot answer for holds half of
/// the threads at most. Any thread.
class DirectoryPool {
 public:
  using Told = std::function<void(engine::LookedUp)>;  ///< called on a thread of the pool, or at once
  /// A server has fallen silent, or answers again.
  using Tell = std::function<void(engine::Weight, std::string subject, std::string text)>;

  DirectoryPool(std::string name, std::size_t threads, Tell tell);
  ~DirectoryPool();

  void look_up(engine::Job::LookUp job, Told told);
  /// Nobody remembers who this is. Empty: who anybody is.
  ///   name     with the realm
  ///   returns  how many are forgotten
  std::size_t forget(const std::string& name);
  std::size_t threads() const { return size_; }
  DirectoryStanding standing(const plan::Directory& directory) const;
  /// Takes nobody any more, and ends by itself when nobody waits.
  void leave();
  bool has_left() const { return running_.load() == 0; }
  /// Lets what is under way end; those who wait are told that there is no answer.
  void stop();

 private:
  struct Task {
    engine::Job::LookUp job;
    Told told;
    TimePoint until;
    std::string who;  // comparable name
  };
  struct Remembered {
    decide::PersonPtr person;
    TimePoint until;
  };
  struct ServerState {
    TimePoint rests_until{};
    std::size_t late = 0;  // answers in a row, of different people
    std::string late_for;  // the last of them
    std::string why;
    std::optional<WallTime> since;
  };
  /// Of one thread.
  struct Connections {
    plan::DirectoryAccess access;  // that they were made by
    std::size_t server = 0;
    TimePoint made{};
    std::unique_ptr<directory::Connection> searching;
    std::unique_ptr<directory::Connection> proving;
  };

  void run();
  std::optional<Task> take();
  void done(const std::string& who);
  engine::LookedUp answer(const Task& task, Connections& connections);
  Result<engine::LookedUp> ask(const Task& task, Connections& connections);
  static Status search_by(Connections& connections);
  decide::PersonPtr remembered(const Task& task);
  void remember(const Task& task, const decide::PersonPtr& person);
  bool may_ask(const plan::DirectoryAccess::Server& server, std::string& why);
  bool counts_as_silent(const plan::DirectoryAccess::Server& server, const std::string& who);
  void fell_silent(const plan::DirectoryAccess::Server& server, const std::string& why);
  void answered(const plan::DirectoryAccess::Server& server);

  std::string name_;
  std::size_t size_;
  Tell tell_;
  mutable std::mutex mutex_;
  std::condition_variable arrived_;
  std::deque<Task> waiting_;
  std::unordered_map<std::string, Remembered> people_;  // by comparable name; without passwords
  std::map<std::string, ServerState> servers_;          // by URL
  plan::PlanPtr people_by_;                             // the plan that they were looked up by
  std::uint64_t looked_up_ = 0;
  std::uint64_t by_memory_ = 0;
  std::uint64_t unanswered_ = 0;
  std::map<std::string, std::size_t> busy_with_;  // people who are being looked up: how often
  bool leave_ = false;
  bool stop_ = false;
  std::atomic<std::size_t> running_{0};
  std::vector<std::thread> threads_;
};

}  // namespace jembatan::server
