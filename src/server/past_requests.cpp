#include "server/past_requests.h"

#include <algorithm>

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr auto kSearchWithin = 3s;
constexpr auto kPreviewWithin = 10s;

Error no_journal() {
  return fail(Errc::not_found, "this node keeps no journal: journal.keep is 0s in its node file");
}

}  // namespace

PastRequests::PastRequests(std::unique_ptr<journal::Blocks> blocks, journal::PlanOf load)
    : blocks_(std::move(blocks)), load_(std::move(load)) {}

Result<journal::Found> PastRequests::find(const journal::Query& query) {
  if (blocks_ == nullptr) return no_journal();
  const std::lock_guard lock(mutex_);
  const TimePoint until = std::chrono::steady_clock::now() + kSearchWithin;
  return journal::find(
      *blocks_, query, [this](std::uint64_t revision) { return plan_of(revision); },
      [until] { return std::chrono::steady_clock::now() < until; });
}

Result<journal::Preview> PastRequests::preview(const journal::Query& query, const plan::PlanPtr& by) {
  if (blocks_ == nullptr) return no_journal();
  const std::lock_guard lock(mutex_);
  const TimePoint until = std::chrono::steady_clock::now() + kPreviewWithin;
  return journal::preview(
      *blocks_, query, [this](std::uint64_t revision) { return plan_of(revision); }, by,
      [until] { return std::chrono::steady_clock::now() < until; });
}

Result<std::optional<journal::Entry>> PastRequests::entry(std::uint64_t number) {
  if (blocks_ == nullptr) return no_journal();
  const std::lock_guard lock(mutex_);
  return journal::entry(*blocks_, number, [this](std::uint64_t revision) { return plan_of(revision); });
}

Result<plan::PlanPtr> PastRequests::plan_of(std::uint64_t revision) {
  const auto known =
      std::find_if(plans_.begin(), plans_.end(), [&](const auto& one) { return one.first == revision; });
  if (known != plans_.end()) return known->second;
  auto loaded = load_(revision);
  if (!loaded) return loaded;
  plans_.emplace_back(revision, *loaded);
  if (plans_.size() > kMostPlans) plans_.pop_front();
  return loaded;
}

}  // namespace jembatan::server
