#pragma once
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "journal/entry.h"
#include "server/feed.h"

namespace jembatan::server {

/// How long readers wait for what was handed to the log or the journal and is not written yet.
inline constexpr std::chrono::seconds kSettleWithin{2};

/// Takes events into the journal, on a thread of its own: there their trails are made and written. When more
/// come than it can write, they are shed and counted: requests are never held up.
class JournalWriter {
 public:
  JournalWriter(std::unique_ptr<journal::Journal> journal, const journal::Limits& limits);
  ~JournalWriter();

  /// The number that the next event will have; 0 if it would be shed. One thread.
  std::uint64_t next_number();
  /// Takes the event that was given the number.
  void take(FeedItem event);
  /// An event that would have had a number was not even told.
  void count_untold() { shed_.fetch_add(1, std::memory_order_relaxed); }
  /// True while the next event would be shed.
  bool full() const { return full_.load(std::memory_order_relaxed); }
  std::uint64_t shed() const { return shed_.load(std::memory_order_relaxed); }
  /// Waits until what was taken so far is written, at most for a moment.
  void settle();
  /// Writes what is left and ends the thread.
  void stop();

 private:
  void run();
  void write(const std::vector<FeedItem>& events);

  static constexpr std::size_t kMostWaiting = 20000;
  std::unique_ptr<journal::Journal> journal_;
  journal::Limits limits_;
  std::uint64_t last_ = 0;  // used by the thread that takes
  std::mutex mutex_;
  std::condition_variable arrived_;
  std::vector<FeedItem> events_;
  std::condition_variable written_all_;
  std::uint64_t taken_ = 0;
  std::uint64_t written_ = 0;
  bool hurry_ = false;  // somebody waits
  bool stop_ = false;
  bool failing_ = false;  // used by the thread alone
  std::atomic<std::uint64_t> shed_{0};
  std::atomic<bool> full_{false};
  std::thread thread_;
};

}  // namespace jembatan::server
