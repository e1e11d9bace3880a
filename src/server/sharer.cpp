#include "server/sharer.h"

#include <fmt/format.h>

#include "base/text.h"
#include "host/system.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kAtATime = 2000;
constexpr auto kReportEvery = 2s;
constexpr auto kLookEvery = 500ms;

}  // namespace

Sharer::Sharer(Parts parts)
    : parts_(std::move(parts)),
      thread_({.name = "sharer",
               .every = kLookEvery,
               .open = [this] { return open(); },
               .turn = [this](shared::SharedStore& store) { return turn(store); },
               .lost =
                   [this](const Error& why) {
                     tell(engine::Weight::warning, "records wait here until it takes them: " + why.text);
                   },
               .back =
                   [this] {
                     tell(engine::Weight::info,
                          fmt::format("reached again, {} brought", counted(brought_, "record")));
                   }}) {}

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

Result<std::unique_ptr<shared::SharedStore>> Sharer::open() {
  auto opened = shared::SharedStore::open(parts_.wish);
  if (!opened) return opened.error();
  const auto last = (*opened)->last();
  if (!last) return last.error();
  behind_ = *last;
  brought_ = 0;
  report_at_ = Steady::now();
  return opened;
}

Status Sharer::turn(shared::SharedStore& store) {
  Status done = bring(store);
  if (done) done = hear(store);
  if (done && Steady::now() >= report_at_) done = report(store);
  return done;
}

Status Sharer::bring(shared::SharedStore& store) {
  while (!thread_.stopping()) {
    const auto last = parts_.last();
    if (!last) return last.error();
    const auto records = parts_.records(behind_, kAtATime);
    if (!records) return records.error();
    if (!records->empty()) {
      const auto refused = store.add(*records);
      if (!refused) return refused.error();
      for (const auto& one : *refused)
        tell(engine::Weight::error,
             fmt::format("it does not take record {}, which stays here alone: {}", one.id, one.why));
      behind_ = records->back().id;
      brought_ += records->size();
    }
    if (records->size() == kAtATime) {
      if (Steady::now() < report_at_) continue;
      if (const Status reported = report(store); !reported) return reported;
      continue;
    }
    all_up_to_ = *last;  // also of those that are not kept here
    return {};
  }
  return {};
}

Status Sharer::hear(shared::SharedStore& store) {
  if (parts_.plan.empty()) return {};
  const auto others = store.others(parts_.plan);
  if (!others) return others.error();
  for (const auto& other : *others) {
    if (const Status done = hear(store, other); !done) return done;
  }
  return {};
}

Status Sharer::hear(shared::SharedStore& store, const shared::SharedStore::Other& other) {
  if (!heard_.contains(other.number)) {
    auto last = parts_.heard(other.number);
    if (last && *last == 0)
      last = store.last_before(other.number, host::SystemClock().now().wall - parts_.silence);
    if (!last) return last.error();
    heard_[other.number].last = *last;
  }
  Heard& heard = heard_[other.number];
  while (heard.last < other.last_record && !thread_.stopping()) {
    const auto records = store.records(other.number, heard.last, heard.received, kAtATime);
    if (!records) return records.error();
    if (const Status done = parts_.hear(other.number, *records); !done) return done;
    // Numbers without a record are those that the database did not take.
    heard.last = records->empty() ? other.last_record : records->back().id;
    if (!records->empty()) heard.received = records->back().received;
  }
  return {};
}

Status Sharer::report(shared::SharedStore& store) {
  const auto last = parts_.last();
  if (!last) return last.error();
  report_at_ = Steady::now() + kReportEvery;
  return store.report({parts_.version, parts_.revision(),
                       static_cast<std::uint64_t>(*last - std::min(*last, std::max(behind_, all_up_to_)))});
}

void Sharer::tell(engine::Weight weight, std::string text) {
  parts_.events.tell(weight, "shared database", std::move(text));
}

}  // namespace jembatan::server
