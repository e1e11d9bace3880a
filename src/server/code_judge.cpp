#include "server/code_judge.h"

#include <fmt/format.h>

#include "base/text.h"
#include "host/process.h"
#include "host/system.h"
#include "identity/name.h"
#include "server/event_log.h"

namespace jembatan::server {

using engine::Job;
using identity::CodeVerdict;

namespace {

store::CodeBook::Key key_of(const std::string& factor, const std::string& user) {
  return {factor, identity::comparable(user)};
}

const plan::Factor& factor_of(const Job::Judge& job) {
  return job.plan->factors[job.factor];
}

}  // namespace

CodeJudge::CodeJudge(std::unique_ptr<store::CodeBook> book, EventLog& events)
    : events_(events), book_(std::move(book)), thread_([this] {
        host::name_thread("codes");
        run();
      }) {}

bool CodeJudge::judge(Job::Judge job, Told told) {
  {
    const std::lock_guard lock(mutex_);
    if (stop_ || waiting_.size() >= kMostWaiting) return false;
    waiting_.push_back({std::move(job), std::move(told)});
  }
  woken_.notify_one();
  return true;
}

void CodeJudge::stop() {
  {
    const std::lock_guard lock(mutex_);
    stop_ = true;
  }
  woken_.notify_one();
  if (thread_.joinable()) thread_.join();
}

void CodeJudge::run() {
  while (true) {
    std::vector<Waiting> some;
    {
      std::unique_lock lock(mutex_);
      woken_.wait(lock, [&] { return stop_ || !waiting_.empty(); });
      if (stop_) return;
      while (!waiting_.empty() && some.size() < kMostTogether) {
        some.push_back(std::move(waiting_.front()));
        waiting_.pop_front();
      }
    }
    judge_all(some);
  }
}

// One sync for all that came while the last one ran.
void CodeJudge::judge_all(std::vector<Waiting>& some) {
  std::vector<Result<CodeVerdict>> verdicts;
  {
    const std::lock_guard lock(book_mutex_);
    const Status kept = book_->together([&]() -> Status {
      for (const Waiting& one : some) verdicts.push_back(judged(one.job, true));
      return {};
    });
    if (!kept) verdicts.assign(some.size(), Result<CodeVerdict>(kept.error()));
  }
  for (std::size_t i = 0; i < some.size(); ++i) {
    if (verdicts[i]) tell_of_lock(some[i].job, *verdicts[i]);
    some[i].told({std::move(verdicts[i])});
  }
}

Result<CodeVerdict> CodeJudge::judged(const Job::Judge& job, bool note) {
  const plan::Factor& factor = factor_of(job);
  const auto key = key_of(factor.name, job.user);
  auto page = book_->read(key);
  if (!page) return page.error();
  const auto before = *page;
  const auto tokens = job.plan->tokens_of(job.user, job.factor);
  CodeVerdict out = identity::judge(*page, tokens, text_of(job.typed.reveal()), factor.limits, job.now);
  if (note && *page != before) {
    if (const Status kept = book_->write(key, *page); !kept) return kept.error();
  }
  return out;
}

void CodeJudge::tell_of_lock(const Job::Judge& job, const CodeVerdict& verdict) {
  if (verdict.what != CodeVerdict::What::locks) return;
  const plan::Factor& factor = factor_of(job);
  events_.tell(
      engine::Weight::warning, "user " + escaped(job.user),
      fmt::format("codes of factor '{}' are not looked at until {} ({} were wrong in a row); to end it: "
                  "jembatan user unlock {}",
                  factor.name, second_text(verdict.until), factor.limits.lock_after, escaped(job.user)));
}

Result<identity::CodePage> CodeJudge::page(const std::string& factor, const std::string& user) {
  const std::lock_guard lock(book_mutex_);
  return book_->read(key_of(factor, user));
}

Result<CodeVerdict> CodeJudge::try_out(const Job::Judge& job) {
  const std::lock_guard lock(book_mutex_);
  return judged(job, false);
}

// A page that is damaged goes: what had served of it can serve again, for as long as a code is shown.
Result<bool> CodeJudge::unlock(const std::string& factor, const std::string& user) {
  const std::lock_guard lock(book_mutex_);
  const auto key = key_of(factor, user);
  Result<bool> was = false;
  const Status done = book_->together([&]() -> Status {
    auto page = book_->read(key);
    if (!page && page.error().code != Errc::malformed) return page.error();
    if (!page) return book_->remove(key);
    was = page->wrong > 0 || page->locked_until > host::SystemClock().now().wall;
    page->wrong = 0;
    page->locked_until = {};
    return *was ? book_->write(key, *page) : Status{};
  });
  if (!done) return done.error();
  return was;
}

}  // namespace jembatan::server
