#include "server/queue_sharer.h"

#include <fmt/format.h>
#include <fmt/ranges.h>

#include "base/text.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kPutUpAtATime = 2000;
constexpr std::size_t kTakeAtATime = 500;
constexpr int kMostTimesATurn = 20;  // this node is to be seen in between
constexpr auto kTurnEvery = 500ms;
constexpr auto kPutUpAfter = 1s;  // what is on its way needs nobody else
constexpr auto kTellEvery = 1min;
constexpr auto kOthersAreBackWithin = 10s;  // once the database is

}  // namespace

QueueSharer::QueueSharer(Parts parts)
    : parts_(std::move(parts)),
      thread_({.name = "queue-sharer",
               .every = kTurnEvery,
               .open =
                   [this] {
                     anew_ = true;
                     connected_at_ = Steady::now();
                     return shared::SharedQueue::open(parts_.wish, parts_.plan);
                   },
               .turn = [this](shared::SharedQueue& there) { return turn(there); },
               .lost = [](const Error&) {},  // who brings the records tells of it
               .back = [] {}}) {}

Status QueueSharer::turn(shared::SharedQueue& there) {
  if (const Status seen = there.renew(); !seen) return seen;
  const auto settled = give_up(there);
  if (!settled) return settled.error();
  if (!*settled) return {};
  if (!settled_) {
    settled_ = true;
    parts_.settled();
  }
  if (const Status up = put_up(there); !up) return up;
  return take_over(there);
}

Result<bool> QueueSharer::give_up(shared::SharedQueue& there) {
  std::map<std::string, std::uint64_t> by_node;
  bool settled = false;
  for (int i = 0; i < kMostTimesATurn && !settled; ++i) {
    const auto lost = there.handed_over(kPutUpAtATime);
    if (!lost) return lost.error();
    settled = lost->settled;
    if (lost->records.empty()) break;
    std::vector<accounting::Delivered> evidence;
    for (const auto& one : lost->records) {
      evidence.push_back(accounting::handed_over(one.id, one.group, one.digest, one.node, one.at));
      ++by_node[one.node];
    }
    if (const Status noted = parts_.handed_over(std::move(evidence)); !noted) return noted.error();
    if (const Status done = there.forget(lost->records); !done) return done.error();
  }
  for (const auto& [node, records] : by_node)
    tell(fmt::format("node {} has taken over {} of the queues here, and sends them on", escaped(node),
                     counted(records, "record")));
  return settled;
}

// What waits no more is below the first that waits, sooner or later.
Status QueueSharer::put_up(shared::SharedQueue& there) {
  const auto waiting = parts_.groups();
  if (!waiting) return waiting.error();
  if (anew_.exchange(false)) {
    up_.clear();
    const auto known = there.groups();
    if (!known) return known.error();
    for (const std::string& group : *known) up_[group] = 0;
  }
  for (auto at = up_.begin(); at != up_.end();) {
    const auto first = parts_.waiting(at->first, 0, 1);
    if (!first) return first.error();
    const auto below = first->empty() ? std::nullopt : std::optional(first->front().arrival.id);
    if (const Status done = there.take_down(at->first, below); !done) return done;
    at = below ? std::next(at) : up_.erase(at);
  }
  for (const std::string& group : *waiting) {
    if (const Status done = put_up(there, group); !done) return done;
  }
  return {};
}

Status QueueSharer::put_up(shared::SharedQueue& there, const std::string& group) {
  for (int i = 0; i < kMostTimesATurn; ++i) {
    const auto up = up_.find(group);
    const auto records = parts_.waiting(group, up == up_.end() ? 0 : up->second, kPutUpAtATime);
    if (!records) return records.error();
    const WallTime now = host::SystemClock().now().wall;
    std::vector<accounting::Arrival> old;
    for (const auto& one : *records) {
      if (one.arrival.received <= now && now - one.arrival.received < kPutUpAfter) break;
      old.push_back(one.arrival);
    }
    if (old.empty()) return {};
    if (const Status done = there.put_up(group, old); !done) return done;
    up_[group] = old.back().id;
    if (old.size() < kPutUpAtATime) return {};
  }
  return {};
}

// While the database is away nobody is seen: each node has its time to be, before others act on that.
//
// First durable here, then marked there: who is stopped in between takes them again when the claim has run
// out, and knows what it has sent by then.
Status QueueSharer::take_over(shared::SharedQueue& there) {
  if (Steady::now() - connected_at_ <
      std::max<Steady::duration>(parts_.take_over_after, kOthersAreBackWithin))
    return {};
  for (int i = 0; i < kMostTimesATurn; ++i) {
    const auto claimed = there.claim(parts_.take_over_after, kTakeAtATime);
    if (!claimed) return claimed.error();
    if (claimed->empty()) {
      tell_of(true);
      return {};
    }
    std::vector<accounting::Incoming> records;
    for (const auto& one : *claimed) records.push_back({one.arrival, false, {one.group}, true});
    if (const Status kept = parts_.keep(std::move(records)); !kept) return kept;
    if (const Status done = there.keep(*claimed); !done) return done;
    for (const auto& one : *claimed) {
      Taken& taken = taken_[one.name];
      ++taken.records;
      taken.groups.insert(escaped(one.group));
    }
  }
  tell_of(false);
  return {};
}

// One line a node when it has no more, and one a minute until then.
void QueueSharer::tell_of(bool all_of_them) {
  const auto now = Steady::now();
  for (auto& [node, taken] : taken_) {
    if (taken.records == 0 || (!all_of_them && now - taken.told < kTellEvery)) continue;
    tell(fmt::format("node {} has not been seen for {} s: {} that waited there for {} will be sent from here",
                     escaped(node), parts_.take_over_after.count(), counted(taken.records, "record"),
                     fmt::join(taken.groups, ", ")));
    taken = {0, {}, now};
  }
}

void QueueSharer::tell(std::string text) {
  parts_.events.tell(engine::Weight::warning, "shared queue", std::move(text));
}

}  // namespace jembatan::server
