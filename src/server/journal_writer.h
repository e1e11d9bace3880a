#pragma once
#include <atomic>
#include <chrono>
#include <condition_variable>
#include <mutex>
#include <thread>

#include "journal/pack.h"

namespace jembatan::server {

/// How long readers wait for what was handed to the log or the journal and is not written yet.
inline constexpr std::chrono::seconds kSettleWithin{2};

/// Takes events into the journal: they are packed at once, and written in blocks on a thread of its own. When
/// more come than it can write, they are shed and counted: requests are never held up.
class JournalWriter {
 public:
  ///   blocks  null: there is no journal
  JournalWriter(std::unique_ptr<journal::Blocks> blocks, const journal::Limits& limits);
  ~JournalWriter();

  /// Keeps what an event says, and gives it its number; 0 if it is shed. One thread.
  void take(engine::Event& event);
  /// An event that would have been kept was not even told.
  void count_untold() { shed_.fetch_add(is_on() ? 1 : 0, std::memory_order_relaxed); }
  /// True if the next event would not be kept.
  bool full() const { return full_.load(std::memory_order_relaxed); }
  bool is_on() const { return blocks_ != nullptr; }
  std::uint64_t shed() const { return shed_.load(std::memory_order_relaxed); }
  /// Waits until what was taken so far is written, at most for a moment.
  void settle();
  /// Writes what is left and ends the thread.
  void stop();

 private:
  std::string words_of(const engine::Event& event);
  void end_block();
  void run();
  void write(const std::vector<journal::Block>& blocks);

  std::unique_ptr<journal::Blocks> blocks_;
  journal::Limits limits_;
  // Used by the thread that takes.
  std::uint64_t last_ = 0;
  forward::LivePlanPtr plan_;  // that told_again_ is about
  bool told_again_ = true;

  std::mutex mutex_;
  std::condition_variable arrived_;
  journal::Packing packing_;
  std::vector<journal::Block> packed_;
  std::size_t packed_octets_ = 0;
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
