#pragma once
#include <atomic>
#include <condition_variable>
#include <functional>
#include <map>
#include <mutex>
#include <thread>

#include "host/node_file.h"
#include "server/event_text.h"
#include "server/feed.h"
#include "server/journal_writer.h"
#include "server/tally.h"

namespace jembatan::server {

/// One line of the log; `payload` as the log's format wants it.
void log_line(engine::Weight weight, std::string_view payload);
bool logs(engine::Weight weight);

/// Takes the events of all workers to the log, the journal and those who follow live, on a thread of its own.
/// When more come than it can write, events are shed and counted: requests are never held up. Drops from one
/// address are written once, then counted and summed up every minute.
class EventLog {
 public:
  EventLog(Feed& feed, Tally& tally, JournalWriter& journal, host::LogFormat format, About about,
           std::function<void()> each_turn = {});
  ~EventLog();

  /// Takes over what the vectors hold and leaves them empty. Any thread.
  void take(std::vector<engine::Event>& events, std::vector<engine::Notice>& notices);
  /// One notice of now. Any thread.
  void tell(engine::Weight weight, std::string subject, std::string text);
  /// True while neither the journal nor anybody live has room for the story of one more event.
  const std::atomic<bool>& no_stories() const { return no_stories_; }
  std::uint64_t shed() const { return shed_.load(std::memory_order_relaxed); }
  /// Waits until what was taken so far is written, at most for a moment.
  void settle();
  /// Writes what is left and ends the thread.
  void stop();

 private:
  struct Repeated {
    TimePoint since;
    std::uint64_t count = 0;
    engine::Event last;
  };
  using DropKey = std::pair<engine::Outcome, IpAddress>;
  std::vector<engine::Event> take_spare();
  void run();
  void write(engine::Event& event, TimePoint now);
  void write(engine::Notice& notice);
  bool first_of_its_kind(const engine::Event& event, TimePoint now);
  void sum_up(TimePoint now, std::chrono::seconds at_least);
  void line(const engine::Event& event);

  static constexpr std::size_t kMostWaiting = 200000;
  static constexpr std::size_t kMostRepeated = 10000;
  static constexpr std::size_t kMostSpare = 256;
  Feed& feed_;
  Tally& tally_;
  JournalWriter& journal_;
  host::LogFormat format_;
  std::function<void()> each_turn_;  ///< called on its thread
  About about_;
  std::mutex mutex_;
  std::condition_variable arrived_;
  std::vector<std::vector<engine::Event>> events_;  ///< as they were taken over
  std::vector<std::vector<engine::Event>> spare_;   ///< empty, with room
  std::size_t waiting_ = 0;                         ///< events in events_
  std::vector<engine::Notice> notices_;
  std::condition_variable written_all_;
  std::uint64_t taken_ = 0;    // calls of take()
  std::uint64_t written_ = 0;  // of those, the ones that are written
  bool stop_ = false;
  std::atomic<std::uint64_t> shed_{0};
  std::atomic<bool> no_stories_{false};
  std::map<DropKey, Repeated> repeated_;  // used by the thread alone
  TimePoint summed_up_;
  std::thread thread_;
};

}  // namespace jembatan::server
