#include "server/journal_writer.h"

#include <unistd.h>

#include "host/system.h"
#include "journal/tell.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr int kNicer = 10;
constexpr auto kBetweenPrunes = 10s;
constexpr auto kBetweenBatches = 50ms;  // so that one transaction takes many

}  // namespace

JournalWriter::JournalWriter(std::unique_ptr<journal::Journal> journal, const journal::Limits& limits)
    : journal_(std::move(journal)), limits_(limits) {
  const auto last = journal_->last();
  if (last) last_ = *last;
  thread_ = std::thread([this] { run(); });
}

JournalWriter::~JournalWriter() {
  stop();
}

std::uint64_t JournalWriter::next_number() {
  const std::lock_guard lock(mutex_);
  if (events_.size() < kMostWaiting) return ++last_;
  full_ = true;
  shed_.fetch_add(1, std::memory_order_relaxed);
  return 0;
}

void JournalWriter::take(FeedItem event) {
  const std::lock_guard lock(mutex_);
  events_.push_back(std::move(event));
  ++taken_;
  if (events_.size() == 1) arrived_.notify_one();
}

void JournalWriter::settle() {
  std::unique_lock lock(mutex_);
  const std::uint64_t wanted = taken_;
  hurry_ = true;
  arrived_.notify_one();
  written_all_.wait_for(lock, kSettleWithin, [&] { return written_ >= wanted || stop_; });
}

void JournalWriter::stop() {
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return;
    stop_ = true;
  }
  arrived_.notify_one();
  thread_.join();
}

void JournalWriter::run() {
  (void)!nice(kNicer);  // of this thread alone (Linux): requests come first
  std::vector<FeedItem> events;
  TimePoint pruned{};
  std::uint64_t taken = 0;
  for (bool last = false; !last;) {
    {
      std::unique_lock lock(mutex_);
      arrived_.wait_for(lock, 1s, [this] { return stop_ || !events_.empty(); });
      if (!stop_ && !events_.empty())
        arrived_.wait_for(lock, kBetweenBatches, [this] { return stop_ || hurry_; });
      hurry_ = false;
      taken = taken_;
      std::swap(events, events_);
      full_ = false;
      last = stop_;
    }
    write(events);
    events.clear();
    {
      const std::lock_guard lock(mutex_);
      written_ = taken;
    }
    written_all_.notify_all();
    const TimePoint now = std::chrono::steady_clock::now();
    if (now - pruned < kBetweenPrunes) continue;
    pruned = now;
    const Status done = journal_->prune(limits_, host::SystemClock().now().wall);
    if (!done && !failing_) log_error(done.error().at("journal").text);
  }
}

void JournalWriter::write(const std::vector<FeedItem>& events) {
  if (events.empty()) return;
  std::vector<journal::Entry> entries;
  entries.reserve(events.size());
  for (const FeedItem& item : events) entries.push_back(journal::entry_of(std::get<engine::Event>(*item)));
  const Status done = journal_->append(entries);
  if (done) {
    failing_ = false;
    return;
  }
  shed_.fetch_add(entries.size(), std::memory_order_relaxed);
  if (!failing_) log_error(done.error().at("journal: entries are lost").text);
  failing_ = true;
}

}  // namespace jembatan::server
