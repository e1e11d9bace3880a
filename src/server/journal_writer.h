#pragma once
#include <atomic>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "engine/actions.h"
#include "journal/entry.h"

namespace jembatan::server {

/// Takes events into the journal, on a thread of its own: there their trails are made and written. When more
/// come than it can write, they are shed and counted: requests are never held up.
class JournalWriter {
 public:
  JournalWriter(std::unique_ptr<journal::Journal> journal, const journal::Limits& limits);
  ~JournalWriter();

  /// Gives the event its number in the journal and keeps a copy of it; 0 if it is shed. One thread.
  std::uint64_t take(engine::Event& event);
  std::uint64_t shed() const { return shed_.load(std::memory_order_relaxed); }
  /// Writes what is left and ends the thread.
  void stop();

 private:
  void run();
  void write(const std::vector<engine::Event>& events);

  static constexpr std::size_t kMostWaiting = 20000;
  std::unique_ptr<journal::Journal> journal_;
  journal::Limits limits_;
  std::uint64_t last_ = 0;  // used by the thread that takes
  std::mutex mutex_;
  std::condition_variable arrived_;
  std::vector<engine::Event> events_;
  bool stop_ = false;
  bool failing_ = false;  // used by the thread alone
  std::atomic<std::uint64_t> shed_{0};
  std::thread thread_;
};

}  // namespace jembatan::server
