#include "server/event_log.h"

#include <fmt/format.h>

#include <iterator>

#include "base/text.h"
#include "host/process.h"
#include "host/system.h"
#include "server/event_text.h"
#include "server/log.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;
using engine::Event;
using engine::Notice;
using engine::Outcome;
using engine::Weight;

constexpr auto kSummary = 60s;

// Drops that one misconfigured or hostile sender can cause at any rate.
bool can_flood(Outcome outcome) {
  return engine::weight_of(outcome) == Weight::warning && outcome != Outcome::no_answer;
}

// What was decided, what a mirror answers otherwise, what was asked about sessions, and what a client of the
// plan sent in vain; not what anybody can send.
bool is_journaled(const Event& event) {
  return event.story != nullptr || event.outcome == Outcome::mirror_differs ||
         event.outcome == Outcome::acknowledged || event.outcome == Outcome::not_acknowledged ||
         (engine::is_drop(event.outcome) && !event.client.empty());
}

}  // namespace

EventLog::EventLog(Feed& feed, Tally& tally, JournalWriter& journal, host::LogFormat format, About about,
                   std::function<void()> each_turn)
    : feed_(feed),
      tally_(tally),
      journal_(journal),
      format_(format),
      each_turn_(std::move(each_turn)),
      about_(std::move(about)),
      summed_up_(std::chrono::steady_clock::now()),
      thread_([this] { run(); }) {}

EventLog::~EventLog() {
  stop();
}

void EventLog::take(std::vector<Event>& events, std::vector<Notice>& notices) {
  if (events.empty() && notices.empty()) return;
  bool wake = false;
  {
    const std::lock_guard lock(mutex_);
    wake = events_.empty() && notices_.empty();
    if (waiting_ + events.size() > kMostWaiting) {
      shed_.fetch_add(events.size(), std::memory_order_relaxed);
    } else if (!events.empty()) {
      waiting_ += events.size();
      events_.push_back(std::move(events));
      events = take_spare();
    }
    std::move(notices.begin(), notices.end(), std::back_inserter(notices_));
    ++taken_;
  }
  if (wake) arrived_.notify_one();
  events.clear();
  notices.clear();
}

// Memory goes round instead of being taken and given back for each batch.
std::vector<Event> EventLog::take_spare() {
  if (spare_.empty()) return {};
  std::vector<Event> out = std::move(spare_.back());
  spare_.pop_back();
  return out;
}

void EventLog::tell(engine::Weight weight, std::string subject, std::string text) {
  std::vector<engine::Event> none;
  std::vector<engine::Notice> notices{
      {host::SystemClock().now().wall, weight, std::move(subject), std::move(text)}};
  take(none, notices);
}

void EventLog::settle() {
  std::unique_lock lock(mutex_);
  const std::uint64_t wanted = taken_;
  written_all_.wait_for(lock, kSettleWithin, [&] { return written_ >= wanted || stop_; });
}

void EventLog::stop() {
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return;
    stop_ = true;
  }
  arrived_.notify_one();
  thread_.join();
}

void EventLog::run() {
  host::name_thread("log");
  std::vector<std::vector<Event>> events;
  std::vector<Notice> notices;
  std::uint64_t taken = 0;
  for (bool last = false; !last;) {
    {
      std::unique_lock lock(mutex_);
      arrived_.wait_for(lock, 1s, [this] { return stop_ || !events_.empty() || !notices_.empty(); });
      std::swap(events, events_);
      std::swap(notices, notices_);
      waiting_ = 0;
      last = stop_;
      taken = taken_;
    }
    const TimePoint now = std::chrono::steady_clock::now();
    for (Notice& notice : notices) write(notice);
    for (std::vector<Event>& batch : events) {
      for (Event& event : batch) write(event, now);
      batch.clear();
    }
    no_stories_ = journal_.full() && !feed_.followed();
    sum_up(now, last ? 0s : kSummary);
    if (each_turn_) each_turn_();
    flush_log();
    notices.clear();
    {
      const std::lock_guard lock(mutex_);
      written_ = taken;
      std::move(events.begin(), events.end(), std::back_inserter(spare_));
      if (spare_.size() > kMostSpare) spare_.resize(kMostSpare);
    }
    events.clear();
    written_all_.notify_all();
  }
}

void EventLog::write(Event& event, TimePoint now) {
  tally_.count(event);
  const bool first = first_of_its_kind(event, now);
  if (event.untold) journal_.count_untold();
  if (first && event.outcome == Outcome::client_off && about_.off_since)
    event.detail = about_.off_since(event.client);
  if (first || feed_.followed()) event.mend = mend_of(event, about_);
  if (first && logs(engine::weight_of(event.outcome))) line(event);
  if (first && is_journaled(event)) journal_.take(event);
  if (feed_.followed()) feed_.publish(std::make_shared<const std::variant<Event, Notice>>(std::move(event)));
}

void EventLog::line(const Event& event) {
  log_line(engine::weight_of(event.outcome),
           format_ == host::LogFormat::json ? log_json(event) : log_text(event));
}

void EventLog::write(Notice& notice) {
  if (!notice.asked_in_vain.empty()) notice.text += "; " + look_at(notice.asked_in_vain, about_);
  if (format_ == host::LogFormat::json) {
    log_line(notice.weight,
             fmt::format(R"("subject":{},"text":{})", json_quoted(notice.subject), json_quoted(notice.text)));
  } else {
    log_line(notice.weight, fmt::format("{}: {}", notice.subject, notice.text));
  }
  if (feed_.followed()) feed_.publish(std::make_shared<const std::variant<Event, Notice>>(notice));
}

bool EventLog::first_of_its_kind(const Event& event, TimePoint now) {
  if (!can_flood(event.outcome)) return true;
  const DropKey key{event.outcome, event.source.address};
  const auto found = repeated_.find(key);
  if (found == repeated_.end()) {
    if (repeated_.size() < kMostRepeated) repeated_[key] = {now, 0, {}};
    return repeated_.size() < kMostRepeated;
  }
  ++found->second.count;
  found->second.last = event;
  return false;
}

void EventLog::sum_up(TimePoint now, std::chrono::seconds at_least) {
  if (now - summed_up_ < std::min<std::chrono::seconds>(at_least, 1s)) return;
  summed_up_ = now;
  for (auto at = repeated_.begin(); at != repeated_.end();) {
    const auto age = std::chrono::duration_cast<std::chrono::seconds>(now - at->second.since);
    if (age < at_least) {
      ++at;
      continue;
    }
    if (at->second.count > 0) {
      std::string text = fmt::format("{}: {} {} more in={}s ({})", subject_text(at->second.last),
                                     engine::name_of(at->first.first), at->second.count, age.count(),
                                     engine::reason_text(at->second.last));
      const std::string mend = mend_of(at->second.last, about_);
      if (!mend.empty()) text += "; " + mend;
      log_line(Weight::warning, format_ == host::LogFormat::json ? "\"text\":" + json_quoted(text) : text);
    }
    at = repeated_.erase(at);
  }
}

}  // namespace jembatan::server
