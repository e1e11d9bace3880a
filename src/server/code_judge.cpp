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

constexpr std::chrono::seconds kSharedRest{2};  // between two tries to reach the shared database

const plan::Factor& factor_of(const Job::Judge& job) {
  return job.plan->factors[job.factor];
}

}  // namespace

CodeJudge::CodeJudge(std::unique_ptr<store::CodeBook> book, EventLog& events, OpenShared open)
    : events_(events), open_(std::move(open)), book_(std::move(book)), thread_([this] {
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
  {
    const std::lock_guard lock(shared_mutex_);
    if (shared_) shared_->interrupt();
  }
  woken_.notify_one();
  if (thread_.joinable()) thread_.join();
}

void CodeJudge::run() {
  while (true) {
    std::vector<Waiting> some;
    {
      const std::lock_guard lock(book_mutex_);
      reach_shared();
    }
    {
      std::unique_lock lock(mutex_);
      woken_.wait_for(lock, kSharedRest, [&] { return stop_ || !waiting_.empty(); });
      if (stop_) return;
      while (!waiting_.empty() && some.size() < kMostTogether) {
        some.push_back(std::move(waiting_.front()));
        waiting_.pop_front();
      }
    }
    if (!some.empty()) judge_all(some);
  }
}

// One sync for all that came while the last one ran.
void CodeJudge::judge_all(std::vector<Waiting>& some) {
  std::vector<Result<CodeVerdict>> verdicts;
  {
    const std::lock_guard lock(book_mutex_);
    const Status kept = book_->together([&]() -> Status {
      for (const Waiting& one : some) verdicts.push_back(judged(one.job));
      return {};
    });
    if (!kept) verdicts.assign(some.size(), Result<CodeVerdict>(kept.error()));
  }
  for (std::size_t i = 0; i < some.size(); ++i) {
    if (verdicts[i]) tell_of_lock(some[i].job, *verdicts[i]);
    some[i].told({std::move(verdicts[i])});
  }
}

Result<CodeVerdict> CodeJudge::judged(const Job::Judge& job) {
  const plan::Factor& factor = factor_of(job);
  const auto tokens = job.plan->tokens_of(job.user, job.factor);
  CodeVerdict out;
  const Status done = change(key_of(factor.name, job.user), [&](identity::CodePage& page) {
    out = identity::judge(page, tokens, text_of(job.typed.reveal()), factor.limits, job.now);
  });
  if (!done) return done.error();
  return out;
}

Status CodeJudge::change(const store::CodeBook::Key& key, const Change& change) {
  auto page = book_->read(key);
  if (!page) return page.error();
  const store::CodeBook::Page before = *page;
  reach_shared();
  const Status all = shared_ ? for_all(key, *page, change) : Status{};
  if (!all) lost(all.error());
  if (!shared_) {
    change(page->page);
    page->apart = before.apart || page->page != before.page;
  }
  const bool same = page->page == before.page && page->apart == before.apart;
  return same ? Status{} : book_->write(key, *page);
}

// Connecting may take long: it is done beside, and waited for in the beginning of each try alone.
void CodeJudge::reach_shared() {
  constexpr std::chrono::seconds kPatience{1};
  if (!open_ || shared_ || std::chrono::steady_clock::now() < open_again_at_) return;
  const bool begins = !opening_.valid();
  if (begins) opening_ = std::async(std::launch::async, open_);
  if (opening_.wait_for(begins ? kPatience : std::chrono::seconds(0)) != std::future_status::ready) return;
  auto opened = opening_.get();
  if (!opened) return lost(opened.error());
  {
    const std::lock_guard lock(shared_mutex_);
    shared_ = std::move(*opened);
  }
  if (const Status done = bring_up(); !done) return lost(done.error());
  if (told_of_loss_)
    events_.tell(engine::Weight::info, "codes", "the shared database knows again which have served");
  told_of_loss_ = false;
}

// What this node alone has seen is known to all from now on.
Status CodeJudge::bring_up() {
  const auto keys = book_->apart();
  if (!keys) return keys.error();
  for (const store::CodeBook::Key& key : *keys) {
    auto page = book_->read(key);
    if (!page) continue;  // damaged: 'user unlock' mends it
    const Status done = for_all(key, *page, [](identity::CodePage&) {});
    if (!done) return done;
    if (const Status kept = book_->write(key, *page); !kept) return kept;
  }
  return {};
}

Status CodeJudge::for_all(const store::CodeBook::Key& key, store::CodeBook::Page& page,
                          const Change& change) {
  store::CodeBook::Page after{{}, false};
  const Status done = shared_->with_page({key.factor, key.user}, [&](identity::CodePage& theirs) {
    if (page.apart) theirs = identity::merged(theirs, page.page);
    change(theirs);
    after.page = theirs;
  });
  if (done) page = std::move(after);
  return done;
}

void CodeJudge::lost(const Error& why) {
  open_again_at_ = std::chrono::steady_clock::now() + kSharedRest;
  {
    const std::lock_guard lock(shared_mutex_);
    shared_.reset();
  }
  if (!told_of_loss_)
    events_.tell(
        engine::Weight::warning, "codes",
        fmt::format("the shared database cannot be asked which have served ({}): until it can, this node "
                    "knows only what it has seen itself, and a code could serve once at each node",
                    why.text));
  told_of_loss_ = true;
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
  identity::CodePage out;
  const Status done = change(key_of(factor, user), [&](identity::CodePage& page) { out = page; });
  if (!done) return done.error();
  return out;
}

Result<CodeVerdict> CodeJudge::try_out(const Job::Judge& job) {
  const std::lock_guard lock(book_mutex_);
  const plan::Factor& factor = factor_of(job);
  CodeVerdict out;
  const Status done = change(key_of(factor.name, job.user), [&](const identity::CodePage& page) {
    identity::CodePage copy = page;
    out = identity::judge(copy, job.plan->tokens_of(job.user, job.factor), text_of(job.typed.reveal()),
                          factor.limits, job.now);
  });
  if (!done) return done.error();
  return out;
}

// A page that is damaged goes: what had served of it can serve again, for as long as a code is shown.
Result<bool> CodeJudge::unlock(const std::string& factor, const std::string& user) {
  const std::lock_guard lock(book_mutex_);
  const auto key = key_of(factor, user);
  const WallTime now = host::SystemClock().now().wall;
  bool was = false;
  const Status done = book_->together([&]() -> Status {
    if (const auto page = book_->read(key); !page && page.error().code == Errc::malformed) {
      if (const Status gone = book_->remove(key); !gone) return gone;
    }
    return change(key, [&](identity::CodePage& page) {
      was = page.wrong > 0 || page.locked_until > now;
      page.wrong = 0;
      page.locked_until = {};
    });
  });
  if (!done) return done.error();
  return was;
}

}  // namespace jembatan::server
