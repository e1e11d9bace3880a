#include "server/accounting_writer.h"

#include <algorithm>
#include <iterator>
#include <map>

#include "host/process.h"

namespace jembatan::server {

AccountingWriter::AccountingWriter(std::unique_ptr<accounting::Store> store, Callbacks callbacks)
    : store_(std::move(store)), callbacks_(std::move(callbacks)), thread_([this] { run(); }) {}

AccountingWriter::~AccountingWriter() {
  stop();
}

bool AccountingWriter::record(Job job) {
  {
    const std::lock_guard lock(mutex_);
    if (stop_ || jobs_.size() >= kMostWaiting) return false;
    jobs_.push_back(std::move(job));
  }
  arrived_.notify_one();
  return true;
}

void AccountingWriter::delivered(std::vector<std::int64_t> places) {
  {
    const std::lock_guard lock(mutex_);
    std::move(places.begin(), places.end(), std::back_inserter(delivered_));
  }
  arrived_.notify_one();
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
  store_.reset();
}

void AccountingWriter::run() {
  host::name_thread("writer");
  while (true) {
    std::vector<Job> jobs;
    std::vector<std::int64_t> places;
    {
      std::unique_lock lock(mutex_);
      arrived_.wait(lock, [this] { return stop_ || !jobs_.empty() || !delivered_.empty(); });
      if (jobs_.empty() && delivered_.empty()) return;
      const auto taken = static_cast<std::ptrdiff_t>(std::min(jobs_.size(), kMostInOneCommit));
      std::move(jobs_.begin(), jobs_.begin() + taken, std::back_inserter(jobs));
      jobs_.erase(jobs_.begin(), jobs_.begin() + taken);
      std::swap(places, delivered_);
    }
    if (!jobs.empty()) write(std::move(jobs));
    if (!places.empty()) take_off(std::move(places));
  }
}

void AccountingWriter::write(std::vector<Job> jobs) {
  std::vector<accounting::Incoming> records;
  bool any_to_send = false;
  for (Job& job : jobs) {
    any_to_send = any_to_send || !job.incoming.groups.empty();
    records.push_back(std::move(job.incoming));
  }
  const auto kept = store_->append(records);
  {
    const std::lock_guard lock(mutex_);
    problem_ = kept ? "" : kept.error().text;
    problem_at_ = std::chrono::steady_clock::now();
  }
  std::map<std::size_t, std::vector<Done>> by_worker;
  for (std::size_t i = 0; i < jobs.size(); ++i) {
    Result<accounting::Kept> one = fail(Errc::io, "");
    if (kept) {
      one = (*kept)[i];
    } else {
      one = kept.error();
    }
    by_worker[jobs[i].worker].push_back({jobs[i].ticket, std::move(one)});
  }
  for (auto& [worker, done] : by_worker) callbacks_.recorded(worker, std::move(done));
  if (kept && any_to_send) callbacks_.queued();
}

void AccountingWriter::take_off(std::vector<std::int64_t> places) {
  const Status done = store_->delivered(places);
  callbacks_.taken_off(std::move(places), done);
}

}  // namespace jembatan::server
