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

Status AccountingWriter::keep(std::vector<accounting::Incoming> records) {
  std::future<Status> done;
  {
    const std::lock_guard lock(mutex_);
    if (stop_ || backlog() >= kMostBehind)
      return fail(Errc::unreachable,
                  stop_ ? "the node is being stopped" : "too many records wait here already");
    orders_.push_back({std::move(records), {}});
    done = orders_.back().done.get_future();
  }
  arrived_.notify_one();
  return done.get();
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
    std::vector<Order> orders;
    std::int64_t settled = 0;
    {
      std::unique_lock lock(mutex_);
      arrived_.wait(lock,
                    [this] { return stop_ || !jobs_.empty() || !orders_.empty() || settled_ > forgotten_; });
      if (stop_ && jobs_.empty() && orders_.empty()) return;
      const auto taken = static_cast<std::ptrdiff_t>(std::min(jobs_.size(), kMostInOneCommit));
      std::move(jobs_.begin(), jobs_.begin() + taken, std::back_inserter(jobs));
      jobs_.erase(jobs_.begin(), jobs_.begin() + taken);
      orders.swap(orders_);
      settled = settled_;
    }
    const bool idle = jobs.empty();
    if (!idle) write(std::move(jobs));
    for (Order& order : orders) write(order);
    if (settled > forgotten_ && (idle || settled - forgotten_ >= kForgetAtOnce)) forget(settled);
  }
}

void AccountingWriter::write(std::vector<Job> jobs) {
  std::vector<accounting::Incoming> records;
  records.reserve(jobs.size());
  for (Job& job : jobs) records.push_back(std::move(job.incoming));
  Written written = append(std::move(records));
  std::map<std::size_t, std::vector<Done>> by_worker;
  for (std::size_t i = 0; i < jobs.size(); ++i)
    by_worker[jobs[i].worker].push_back({jobs[i].ticket, std::move(written.results[i])});
  for (auto& [worker, done] : by_worker) parts_.recorded(worker, std::move(done));
}

void AccountingWriter::write(Order& order) {
  const Written written = append(std::move(order.records));
  Status done = written.status;
  for (const auto& one : written.results) {
    if (!one && done) done = one.error();
  }
  order.done.set_value(std::move(done));
}

// What is known is answered at once; two of a kind in one commit are known by then, too.
AccountingWriter::Written AccountingWriter::append(std::vector<accounting::Incoming> records) {
  Written out;
  std::vector<accounting::Incoming> fresh;
  std::size_t remembered = 0;
  std::int64_t id = last_;
  for (accounting::Incoming& one : records) {
    const auto before = known(one.arrival);
    if (!before) {
      out.results.emplace_back(before.error());
    } else if (*before && !one.taken_over) {
      out.results.emplace_back(accounting::Kept{**before, true});
    } else {
      one.arrival.id = ++id;
      if (!*before) {  // what was taken over, and was here before, keeps its number
        parts_.known.add(one.arrival);
        ++remembered;
      }
      out.results.emplace_back(accounting::Kept{id, false});
      fresh.push_back(std::move(one));
    }
  }
  out.status = parts_.inbox->append(fresh);
  remember(out.status);
  if (out.status) {
    last_ = id;
  } else {
    parts_.known.forget_newest(remembered);
    // A resend of what could not be kept is no more kept than that.
    for (auto& result : out.results) {
      if (result && result->id > last_) result = out.status.error();
    }
  }
  if (out.status && !fresh.empty()) parts_.kept();  // first: whoever has an answer may look for the record
  return out;
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
