#include "server/sharer.h"

#include <fmt/format.h>

#include "base/text.h"
#include "host/process.h"
#include "host/system.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kAtATime = 2000;
constexpr auto kReportEvery = 2s;
constexpr auto kLookEvery = 500ms;
constexpr std::chrono::milliseconds kFirstRest = 500ms;
constexpr std::chrono::milliseconds kLongestRest = 15s;

}  // namespace

Sharer::~Sharer() {
  stop();
}

void Sharer::start() {
  thread_ = std::thread([this] {
    host::name_thread("sharer");
    run();
  });
}

void Sharer::look() {
  {
    const std::lock_guard lock(mutex_);
    look_ = true;
  }
  woken_.notify_one();
}

std::string Sharer::problem() const {
  const std::lock_guard lock(mutex_);
  return problem_.empty() ? "" : fmt::format("since {}: {}", text_of(*problem_since_), problem_);
}

Result<std::vector<shared::Node>> Sharer::nodes() const {
  auto store = shared::SharedStore::open(parts_.wish);
  if (!store) return store.error();
  return (*store)->nodes();
}

Result<std::vector<accounting::Record>> Sharer::records_of(const accounting::Session& session) const {
  auto store = shared::SharedStore::open(parts_.wish);
  if (!store) return store.error();
  return (*store)->records_of(session);
}

bool Sharer::stopping() const {
  const std::lock_guard lock(mutex_);
  return stop_;
}

void Sharer::wait(std::chrono::milliseconds at_most) {
  std::unique_lock lock(mutex_);
  woken_.wait_for(lock, at_most, [this] { return stop_ || look_; });
  look_ = false;
}

// While the database is away, new records do not shorten the rest.
void Sharer::run() {
  while (!stopping()) {
    Status done = store_ ? Status{} : connect();
    if (done) done = bring();
    if (done) done = hear();
    if (done && Steady::now() >= report_at_) done = report();
    if (done) {
      wait(kLookEvery);
      continue;
    }
    lost(done.error());
    std::unique_lock lock(mutex_);
    woken_.wait_for(lock, rest_, [this] { return stop_; });
  }
}

Status Sharer::connect() {
  auto opened = shared::SharedStore::open(parts_.wish);
  if (!opened) return opened.error();
  const auto last = (*opened)->last();
  if (!last) return last.error();
  behind_ = *last;
  brought_ = 0;
  report_at_ = Steady::now();
  const std::lock_guard lock(mutex_);
  store_ = std::move(*opened);
  return {};
}

Status Sharer::bring() {
  while (!stopping()) {
    const auto records = parts_.records(behind_, kAtATime);
    if (!records) return records.error();
    if (!records->empty()) {
      const auto refused = store_->add(*records);
      if (!refused) return refused.error();
      for (const auto& one : *refused)
        tell(engine::Weight::error,
             fmt::format("it does not take record {}, which stays here alone: {}", one.id, one.why));
      behind_ = records->back().id;
      brought_ += records->size();
    }
    if (records->size() == kAtATime) {
      if (Steady::now() < report_at_) continue;
      if (const Status reported = report(); !reported) return reported;
      continue;
    }
    rest_ = 0ms;
    if (!problem().empty()) {
      {
        const std::lock_guard lock(mutex_);
        problem_.clear();
      }
      tell(engine::Weight::info, fmt::format("reached again, {} brought", counted(brought_, "record")));
    }
    return {};
  }
  return {};
}

Status Sharer::hear() {
  if (parts_.plan.empty()) return {};
  const auto others = store_->others(parts_.plan);
  if (!others) return others.error();
  for (const auto& other : *others) {
    if (const Status done = hear(other); !done) return done;
  }
  return {};
}

Status Sharer::hear(const shared::SharedStore::Other& other) {
  if (!heard_.contains(other.number)) {
    auto last = parts_.heard(other.number);
    if (last && *last == 0)
      last = store_->last_before(other.number, host::SystemClock().now().wall - parts_.silence);
    if (!last) return last.error();
    heard_[other.number].last = *last;
  }
  Heard& heard = heard_[other.number];
  while (heard.last < other.last_record && !stopping()) {
    const auto records = store_->records(other.number, heard.last, heard.received, kAtATime);
    if (!records) return records.error();
    if (const Status done = parts_.hear(other.number, *records); !done) return done;
    // Numbers without a record are those that the database did not take.
    heard.last = records->empty() ? other.last_record : records->back().id;
    if (!records->empty()) heard.received = records->back().received;
  }
  return {};
}

Status Sharer::report() {
  const auto last = parts_.last();
  if (!last) return last.error();
  report_at_ = Steady::now() + kReportEvery;
  return store_->report({parts_.version, parts_.revision(),
                         static_cast<std::uint64_t>(std::max<std::int64_t>(0, *last - behind_))});
}

void Sharer::lost(const Error& why) {
  std::unique_ptr<shared::SharedStore> gone;
  bool first = false;
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return;
    gone = std::move(store_);
    first = problem_.empty();
    problem_ = why.text;
    if (first) problem_since_ = host::SystemClock().now().wall;
  }
  rest_ = rest_ == 0ms ? kFirstRest : std::min(2 * rest_, kLongestRest);
  if (first) tell(engine::Weight::warning, "records wait here until it takes them: " + why.text);
}

void Sharer::tell(engine::Weight weight, std::string text) {
  std::vector<engine::Event> none;
  std::vector<engine::Notice> notices{
      {host::SystemClock().now().wall, weight, "shared database", std::move(text)}};
  parts_.events.take(none, notices);
}

void Sharer::stop() {
  {
    const std::lock_guard lock(mutex_);
    stop_ = true;
    if (store_) store_->interrupt();
  }
  woken_.notify_one();
  if (thread_.joinable()) thread_.join();
}

}  // namespace jembatan::server
