#include "server/journal_writer.h"

#include <unistd.h>

#include "base/text.h"
#include "host/process.h"
#include "host/system.h"
#include "journal/tell.h"
#include "journal/told_again.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr auto kBetweenPrunes = 10s;
constexpr auto kBetweenBatches = 50ms;  // so that one transaction takes many
constexpr std::size_t kMostWaiting = 32 << 20;

}  // namespace

JournalWriter::JournalWriter(std::unique_ptr<journal::Blocks> blocks, const journal::Limits& limits)
    : blocks_(std::move(blocks)), limits_(limits) {
  if (!is_on()) {
    full_ = true;
    return;
  }
  const auto last = blocks_->last();
  if (last) last_ = *last;
  thread_ = std::thread([this] { run(); });
}

JournalWriter::~JournalWriter() {
  stop();
}

// The steps of what cannot be told again from what is kept.
std::string JournalWriter::words_of(const engine::Event& event) {
  if (event.story == nullptr) return {};
  if (event.story->live != plan_) {
    plan_ = event.story->live;
    told_again_ = journal::can_be_told_again(*plan_->plan);
  }
  return told_again_ ? "" : join(journal::steps_of(*event.story, event.source.address), "\n");
}

void JournalWriter::take(engine::Event& event) {
  event.number = 0;
  if (!is_on()) return;
  const std::string words = words_of(event);
  const std::lock_guard lock(mutex_);
  if (packed_octets_ > kMostWaiting) {
    full_ = true;
    shed_.fetch_add(1, std::memory_order_relaxed);
    return;
  }
  const bool wake = packing_.empty() && packed_.empty();
  event.number = ++last_;
  packing_.add(event, words);
  ++taken_;
  if (packing_.full()) end_block();
  if (wake) arrived_.notify_one();
}

void JournalWriter::end_block() {
  if (packing_.empty()) return;
  packed_octets_ += packing_.size();
  packed_.push_back(packing_.take());
}

void JournalWriter::settle() {
  if (!is_on()) return;
  std::unique_lock lock(mutex_);
  const std::uint64_t wanted = taken_;
  hurry_ = true;
  arrived_.notify_one();
  written_all_.wait_for(lock, kSettleWithin, [&] { return written_ >= wanted || stop_; });
}

void JournalWriter::stop() {
  if (!thread_.joinable()) return;
  {
    const std::lock_guard lock(mutex_);
    stop_ = true;
  }
  arrived_.notify_one();
  thread_.join();
}

void JournalWriter::run() {
  host::name_thread("journal");
  host::step_back();
  std::vector<journal::Block> blocks;
  TimePoint pruned{};
  std::uint64_t taken = 0;
  for (bool last = false; !last;) {
    {
      std::unique_lock lock(mutex_);
      const auto any = [this] { return stop_ || !packing_.empty() || !packed_.empty(); };
      arrived_.wait_for(lock, 1s, any);
      if (!stop_ && any()) arrived_.wait_for(lock, kBetweenBatches, [this] { return stop_ || hurry_; });
      hurry_ = false;
      end_block();
      taken = taken_;
      std::swap(blocks, packed_);
      packed_octets_ = 0;
      full_ = false;
      last = stop_;
    }
    write(blocks);
    blocks.clear();
    {
      const std::lock_guard lock(mutex_);
      written_ = taken;
    }
    written_all_.notify_all();
    const TimePoint now = std::chrono::steady_clock::now();
    if (now - pruned < kBetweenPrunes) continue;
    pruned = now;
    const Status done = blocks_->prune(limits_, host::SystemClock().now().wall);
    if (!done && !failing_) log_error(done.error().at("journal").text);
  }
}

void JournalWriter::write(const std::vector<journal::Block>& blocks) {
  if (blocks.empty()) return;
  const Status done = blocks_->append(blocks);
  if (done) {
    failing_ = false;
    return;
  }
  for (const journal::Block& block : blocks)
    shed_.fetch_add(block.last - block.first + 1, std::memory_order_relaxed);
  if (!failing_) log_error(done.error().at("journal: entries are lost").text);
  failing_ = true;
}

}  // namespace jembatan::server
