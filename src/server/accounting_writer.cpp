#include "server/accounting_writer.h"

#include <algorithm>
#include <iterator>
#include <map>

#include "host/process.h"
#include "server/log.h"

namespace jembatan::server {

AccountingWriter::AccountingWriter(Parts parts)
    : parts_(std::move(parts)), filled_(parts_.last), last_(parts_.last), thread_([this] { run(); }) {}

AccountingWriter::~AccountingWriter() {
  stop();
}

bool AccountingWriter::record(Job job) {
  if (backlog() >= kMostBehind) return false;
  {
    const std::lock_guard lock(mutex_);
    if (stop_ || jobs_.size() >= kMostWaiting) return false;
    jobs_.push_back(std::move(job));
  }
  arrived_.notify_one();
  return true;
}

void AccountingWriter::filled(std::int64_t up_to) {
  filled_ = up_to;
}

void AccountingWriter::settled(std::int64_t up_to) {
  {
    const std::lock_guard lock(mutex_);
    settled_ = up_to;
  }
  arrived_.notify_one();
}

std::uint64_t AccountingWriter::backlog() const {
  return static_cast<std::uint64_t>(std::max<std::int64_t>(0, last_ - filled_));
}

std::string AccountingWriter::problem() const {
  const std::lock_guard lock(mutex_);
  const bool lately = std::chrono::steady_clock::now() - problem_at_ < std::chrono::minutes(1);
  return lately ? problem_ : "";
}

void AccountingWriter::stop() {
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return;
    stop_ = true;
  }
  arrived_.notify_one();
  thread_.join();
  parts_.inbox.reset();
  parts_.find_older = nullptr;
}

void AccountingWriter::run() {
  host::name_thread("writer");
  while (true) {
    std::vector<Job> jobs;
    std::int64_t settled = 0;
    {
      std::unique_lock lock(mutex_);
      arrived_.wait(lock, [this] { return stop_ || !jobs_.empty() || settled_ > forgotten_; });
      if (stop_ && jobs_.empty()) return;
      const auto taken = static_cast<std::ptrdiff_t>(std::min(jobs_.size(), kMostInOneCommit));
      std::move(jobs_.begin(), jobs_.begin() + taken, std::back_inserter(jobs));
      jobs_.erase(jobs_.begin(), jobs_.begin() + taken);
      settled = settled_;
    }
    const bool idle = jobs.empty();
    if (!idle) write(std::move(jobs));
    if (settled > forgotten_ && (idle || settled - forgotten_ >= kForgetAtOnce)) forget(settled);
  }
}

// What is known is answered at once; two of a kind in one commit are known by then, too.
void AccountingWriter::write(std::vector<Job> jobs) {
  std::vector<accounting::Incoming> fresh;
  std::vector<Result<accounting::Kept>> results;
  std::int64_t id = last_;
  for (Job& job : jobs) {
    const auto before = known(job.incoming.arrival);
    if (!before) {
      results.emplace_back(before.error());
    } else if (*before) {
      results.emplace_back(accounting::Kept{**before, true});
    } else {
      job.incoming.arrival.id = ++id;
      parts_.known.add(job.incoming.arrival);
      results.emplace_back(accounting::Kept{id, false});
      fresh.push_back(std::move(job.incoming));
    }
  }
  const Status written = parts_.inbox->append(fresh);
  remember(written);
  if (written) {
    last_ = id;
  } else {
    parts_.known.forget_newest(fresh.size());
  }
  std::map<std::size_t, std::vector<Done>> by_worker;
  for (std::size_t i = 0; i < jobs.size(); ++i) {
    // A resend of what could not be kept is no more kept than that.
    const bool lost = !written && results[i] && results[i]->id > last_;
    by_worker[jobs[i].worker].push_back(
        {jobs[i].ticket, lost ? Result<accounting::Kept>(written.error()) : std::move(results[i])});
  }
  if (written && !fresh.empty()) parts_.kept();  // first: whoever has an answer may look for the record
  for (auto& [worker, done] : by_worker) parts_.recorded(worker, std::move(done));
}

Result<std::optional<std::int64_t>> AccountingWriter::known(const accounting::Arrival& arrival) {
  if (const auto found = parts_.known.find(arrival)) return found;
  if (!parts_.known.may_be_older(arrival)) return std::optional<std::int64_t>{};
  return parts_.find_older(arrival);
}

void AccountingWriter::remember(const Status& written) {
  const std::lock_guard lock(mutex_);
  problem_ = written ? "" : written.error().text;
  problem_at_ = std::chrono::steady_clock::now();
}

void AccountingWriter::forget(std::int64_t up_to) {
  forgotten_ = up_to;
  if (const Status done = parts_.inbox->forget(up_to); !done)
    log_error(done.error().at("accounting inbox").text);
}

}  // namespace jembatan::server
