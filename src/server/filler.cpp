#include "server/filler.h"

#include <fmt/format.h>

#include <future>
#include <iterator>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kMostAtOnce = 8192;      // records in one transaction
constexpr std::int64_t kSettleAtOnce = 50000;  // records
constexpr auto kGatherFor = 3ms;
constexpr auto kGatherMore = 40ms;  // while many come: each transaction writes whole pages
constexpr std::size_t kMany = 16;   // records
constexpr auto kSettleEvery = 1s;
constexpr auto kTidyEvery = 20s;
constexpr auto kTryAgainAfter = 1s;

}  // namespace

Filler::Filler(Parts parts) : parts_(std::move(parts)) {
  wanted_.look = true;  // what was left in the inbox
}

Filler::~Filler() {
  stop();
}

void Filler::start() {
  thread_ = std::thread([this] {
    host::name_thread("records");
    host::step_back();
    run();
  });
}

void Filler::look() {
  {
    const std::lock_guard lock(mutex_);
    if (wanted_.look) return;
    wanted_.look = true;
  }
  arrived_.notify_one();
}

void Filler::delivered(std::vector<accounting::Delivered> records) {
  {
    const std::lock_guard lock(mutex_);
    std::move(records.begin(), records.end(), std::back_inserter(wanted_.delivered));
  }
  arrived_.notify_one();
}

void Filler::set_aside(std::vector<accounting::SetAside> records) {
  {
    const std::lock_guard lock(mutex_);
    std::move(records.begin(), records.end(), std::back_inserter(wanted_.set_aside));
  }
  arrived_.notify_one();
}

bool Filler::work(const std::function<void(accounting::Store&)>& work) {
  std::promise<void> done;
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return false;
    wanted_.work.emplace_back([&](accounting::Store& store) {
      work(store);
      done.set_value();
    });
  }
  arrived_.notify_one();
  done.get_future().wait();
  return true;
}

std::string Filler::problem() const {
  const std::lock_guard lock(mutex_);
  return problems_.empty() ? "" : problems_.begin()->second;
}

void Filler::stop() {
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return;
    stop_ = true;
  }
  arrived_.notify_one();
  if (thread_.joinable()) thread_.join();
  parts_.inbox.reset();
  parts_.store.reset();
}

Filler::Wanted Filler::wait() {
  std::unique_lock lock(mutex_);
  auto until = std::min(tidy_at_, settled_ < filled_ ? settle_at_ : tidy_at_);
  if (failing_) until = try_again_at_;
  arrived_.wait_until(lock, until,
                      [this] { return stop_ || !wanted_.work.empty() || (!failing_ && wanted_.any()); });
  // Records that come one by one are not written one by one: who makes them durable has the processor first.
  if (!more_)
    arrived_.wait_for(lock, last_batch_ < kMany ? kGatherFor : kGatherMore,
                      [this] { return stop_ || !wanted_.work.empty(); });
  return std::exchange(wanted_, {});
}

void Filler::run() {
  tidy_at_ = Steady::now() + kTidyEvery;
  while (true) {
    Wanted wanted = wait();
    more_ = (wanted.look || failing_) && fill();
    for (const auto& work : wanted.work) work(*parts_.store);
    take_off(wanted);
    settle_in_time();
    tidy_in_time();
    const std::lock_guard lock(mutex_);
    if (more_) wanted_.look = true;
    if (stop_ && !more_ && wanted_.work.empty()) return;
  }
}

// True if there may be more.
bool Filler::fill() {
  last_batch_ = 0;
  auto records = parts_.inbox->behind(filled_, kMostAtOnce);
  if (!remember(records ? Status{} : Status{records.error()}, "accounting inbox")) return false;
  if (records->empty()) return false;
  if (const Status done = parts_.store->fill(*records); !remember(done, "accounting records")) return false;
  filled_ = records->back().arrival.id;
  last_batch_ = records->size();
  parts_.filled(filled_);
  std::set<std::string> groups;
  std::set<std::string> again;
  for (const accounting::Incoming& one : *records)
    (one.taken_over ? again : groups).insert(one.groups.begin(), one.groups.end());
  if (!groups.empty()) parts_.queued(groups);
  if (!again.empty()) parts_.queued_again(again);
  return records->size() >= kMostAtOnce;
}

// What cannot be written now is tried again, with what comes.
void Filler::take_off(Wanted& wanted) {
  const auto again = [this](auto& to, auto& from) {
    const std::lock_guard lock(mutex_);
    to.insert(to.end(), std::make_move_iterator(from.begin()), std::make_move_iterator(from.end()));
  };
  if (!wanted.set_aside.empty() &&
      !remember(parts_.store->set_aside(wanted.set_aside), "accounting queue: what is set aside"))
    again(wanted_.set_aside, wanted.set_aside);
  if (wanted.delivered.empty()) return;
  if (remember(parts_.store->delivered(wanted.delivered), "accounting queue"))
    return parts_.taken_off(std::move(wanted.delivered));
  again(wanted_.delivered, wanted.delivered);
}

void Filler::settle_in_time() {
  const auto now = Steady::now();
  if (settled_ == filled_ || (now < settle_at_ && filled_ - settled_ < kSettleAtOnce && !stop_)) return;
  settle_at_ = now + kSettleEvery;
  if (!remember(parts_.store->settle(), "accounting store")) return;
  settled_ = filled_;
  parts_.settled(settled_);
}

void Filler::tidy_in_time() {
  const auto now = Steady::now();
  if (now < tidy_at_) return;
  tidy_at_ = now + kTidyEvery;
  const auto dropped = parts_.store->tidy(std::chrono::system_clock::now(), parts_.housekeeping);
  if (!remember(dropped ? Status{} : Status{dropped.error()}, "accounting sessions") || dropped->empty())
    return;
  log_info(fmt::format(
      "accounting store: the records of {} are dropped (accounting.keep, accounting.megabytes)", *dropped));
}

// One line when it begins, and one when it is over. False: it could not be done.
bool Filler::remember(const Status& done, const std::string& what) {
  const std::lock_guard lock(mutex_);
  if (done) {
    if (problems_.erase(what) > 0) log_info(fmt::format("{}: writing goes on", what));
  } else {
    if (!problems_.contains(what)) log_error(done.error().at(what).text);
    problems_[what] = done.error().text;
    try_again_at_ = Steady::now() + kTryAgainAfter;
  }
  failing_ = !problems_.empty();
  return static_cast<bool>(done);
}

}  // namespace jembatan::server
