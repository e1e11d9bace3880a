#include "server/plan_sharer.h"

#include <fmt/format.h>

#include "base/text.h"
#include "host/process.h"
#include "host/system.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

constexpr std::size_t kChangesAtATime = 10;  // one may be a whole plan
constexpr auto kLookAtPlanEvery = 1s;
constexpr auto kRestWithoutPlan = 1s;
constexpr auto kPartKnownWithin = 5s;
constexpr std::string_view kKeptKey = "key of the shared plan";

}  // namespace

PlanSharer::PlanSharer(Parts parts) : parts_(std::move(parts)), pair_(parts_.own) {
  const auto membership = parts_.store->membership();
  auto key = kept_key(*parts_.store, parts_.own);
  if (!membership || !key || !*key || membership->plan != parts_.plan || membership->origin.empty()) return;
  key_ = std::move(*key);
  origin_ = membership->origin;
}

PlanSharer::~PlanSharer() {
  stop();
}

Result<std::optional<revision::SealKey>> PlanSharer::kept_key(store::PlanStore& store,
                                                              const revision::SealKey& own) {
  const auto membership = store.membership();
  if (!membership) return membership.error();
  if (membership->key.empty()) return std::optional<revision::SealKey>{};
  auto key = own.open(kKeptKey, membership->key);
  if (!key) return key.error();
  return std::optional(revision::SealKey::of(std::move(*key)));
}

void PlanSharer::start(EventLog& events) {
  events_ = &events;
  thread_ = std::thread([this] {
    host::name_thread("plan-sharer");
    run();
  });
}

void PlanSharer::stop() {
  {
    const std::lock_guard lock(mutex_);
    stop_ = true;
    if (there_) there_->interrupt();
    if (asking_) asking_->interrupt();
  }
  changed_.notify_all();
  if (thread_.joinable()) thread_.join();
}

bool PlanSharer::stopping() const {
  const std::lock_guard lock(mutex_);
  return stop_;
}

std::string PlanSharer::problem() const {
  const std::lock_guard lock(mutex_);
  return problem_.empty() ? "" : fmt::format("since {}: {}", text_of(*problem_since_), problem_);
}

void PlanSharer::run() {
  while (!stopping()) {
    const Status done = turn();
    if (done) {
      well();
    } else {
      trouble(done.error());
    }
    const bool lost = !done && done.error().code == Errc::unreachable;
    if (there_ && !lost && there_->wait(kLookAtPlanEvery)) continue;
    leads_ = false;
    std::unique_ptr<shared::SharedPlan> gone;
    std::unique_lock lock(mutex_);
    gone = std::move(there_);
    changed_.wait_for(lock, kRestWithoutPlan, [this] { return stop_; });
  }
}

Status PlanSharer::turn() {
  if (!there_) {
    auto opened = shared::SharedPlan::open(parts_.wish, parts_.plan);
    if (!opened) return opened.error();
    const std::lock_guard lock(mutex_);
    there_ = std::move(*opened);
  }
  if (const Status entered = enter(); !entered) return entered;
  if (const Status followed = follow(); !followed) return followed;
  const auto first = there_->leads();
  if (!first) return first.error();
  leads_ = *first;
  return {};
}

Status PlanSharer::enter() {
  const auto state = there_->state();
  if (!state) return state.error();
  const auto membership = parts_.store->membership();
  if (!membership) return membership.error();
  if (state->origin.empty()) return begin();
  if (membership->plan == parts_.plan && membership->origin == state->origin) {
    if (membership->change <= state->change) return {};
    return fail(Errc::conflict,
                fmt::format("the database has change {} of the plan '{}', this node {}: if the database was "
                            "restored from a backup, DELETE FROM jembatan.plan WHERE name = '{}' there, and "
                            "this node begins it anew; the other nodes then have to be let in again",
                            state->change, escaped(parts_.plan), membership->change, escaped(parts_.plan)));
  }
  return ask_in(state->origin);
}

// The first of the nodes: what it has is the plan, its key is the plan's. The node notes it before the
// database has it: whoever is killed in between is a member, or begins again.
Status PlanSharer::begin() {
  const auto kept = kept_key(*parts_.store, parts_.own);
  if (!kept) return kept.error();
  const revision::SealKey key = kept->value_or(parts_.own);
  Octets chance(16);
  parts_.random.fill(chance);
  const std::string origin = to_hex(chance);
  const revision::AuditEntry audit{
      0, host::SystemClock().now().wall, parts_.wish.node, "", "", "plan share", "plan " + parts_.plan, ""};
  const auto changes = parts_.store->beginning(audit);
  if (!changes) return changes.error();
  std::vector<shared::SealedChange> sealed_changes;
  for (const auto& change : *changes)
    sealed_changes.push_back(sealed(key, origin, sealed_changes.size() + 1, change, parts_.random));
  const auto wrapped = revision::wrap(key, pair_.public_key(), parts_.random);
  if (!wrapped) return wrapped.error();
  const Status joined = parts_.store->join(
      {parts_.plan, origin, parts_.own.seal(kKeptKey, key.secret(), parts_.random), sealed_changes.size()});
  if (!joined) return joined;
  have_key(key, origin);
  const Status begun =
      there_->begin(origin, sealed_changes, {parts_.wish.node, pair_.public_key(), *wrapped});
  if (begun)
    tell(engine::Weight::info, fmt::format("this node has begun the plan '{}'", escaped(parts_.plan)));
  return begun;
}

// A node without a plan of its own gets the others', once somebody there has let it in.
Status PlanSharer::ask_in(const std::string& origin) {
  const auto newest = parts_.store->newest();
  const auto tokens = parts_.store->tokens();
  if (!newest) return newest.error();
  if (!tokens) return tokens.error();
  if (*newest > 0 || !tokens->empty())
    return fail(Errc::conflict,
                fmt::format("the database has a plan '{}' already, and this node one of its own (revision "
                            "{}): to have the shared one, stop the node, move plan.sqlite out of its data "
                            "folder, and start it",
                            escaped(parts_.plan), *newest));
  const auto member = there_->member(pair_.public_key());
  if (!member) return member.error();
  if (member->wrapped_key.empty())
    return fail(Errc::not_allowed,
                fmt::format("this node waits to be let in to the plan '{}': at a node that has it, jembatan "
                            "node admit {} {}",
                            escaped(parts_.plan), escaped(parts_.wish.node),
                            revision::fingerprint(pair_.public_key())));
  auto key = pair_.unwrap(member->wrapped_key);
  if (!key) return key.error();
  const Status joined =
      parts_.store->join({parts_.plan, origin, parts_.own.seal(kKeptKey, key->secret(), parts_.random), 0});
  if (!joined) return joined;
  have_key(std::move(*key), origin);
  tell(engine::Weight::info, fmt::format("this node has a part in the plan '{}' now", escaped(parts_.plan)));
  return {};
}

void PlanSharer::have_key(revision::SealKey key, const std::string& origin) {
  parts_.use_key(key);
  const std::lock_guard lock(mutex_);
  key_ = std::move(key);
  origin_ = origin;
}

std::string PlanSharer::mark(const std::string& origin, std::uint64_t number) const {
  return fmt::format("change {} of {} {}", number, parts_.plan, origin);
}

shared::SealedChange PlanSharer::sealed(const revision::SealKey& key, const std::string& origin,
                                        std::uint64_t number, const revision::SharedChange& change,
                                        Random& random) const {
  Octets octets = revision::packed(change);
  const Secret whole(text_of(octets));
  wipe(octets);
  const revision::AuditEntry& audit = change.audit;
  return {number,
          audit.author,
          audit.action,
          audit.detail,
          {},
          audit.at,
          key.seal(mark(origin, number), whole, random)};
}

Status PlanSharer::follow() {
  bool plan = false;
  bool tokens = false;
  Status out;
  for (bool more = true; more && out && !stopping();) {
    const auto membership = parts_.store->membership();
    if (!membership) return membership.error();
    const auto changes = there_->changes(membership->change, kChangesAtATime);
    if (!changes) return changes.error();
    more = changes->size() == kChangesAtATime;
    for (const shared::SealedChange& one : *changes) {
      const auto opened = key_->open(mark(origin_, one.number), one.sealed);
      const Result<revision::SharedChange> change =
          opened ? revision::unpacked(opened->reveal()) : Result<revision::SharedChange>(opened.error());
      if (!change) {
        out = change.error().at(fmt::format("change {} of node {}", one.number, escaped(one.node)));
        break;
      }
      out = parts_.store->follow(one.number, *change);
      if (!out) break;
      (std::holds_alternative<revision::SharedRevision>(change->what) ? plan : tokens) = true;
    }
  }
  if (tokens) parts_.new_tokens();
  if (plan || !problem().empty()) {
    if (const Status in_force = parts_.new_plan(); !in_force && out) out = in_force;
  }
  return out;
}

void PlanSharer::trouble(const Error& why) {
  bool news = false;
  {
    const std::lock_guard lock(mutex_);
    if (stop_) return;
    settled_ = true;
    news = problem_ != why.text;
    if (problem_.empty()) problem_since_ = host::SystemClock().now().wall;
    problem_ = why.text;
  }
  changed_.notify_all();
  if (news) tell(engine::Weight::warning, why.text);
}

void PlanSharer::well() {
  bool news = false;
  {
    const std::lock_guard lock(mutex_);
    settled_ = true;
    news = !problem_.empty();
    problem_.clear();
  }
  changed_.notify_all();
  if (news) tell(engine::Weight::info, "the plan here is that of the other nodes");
}

void PlanSharer::tell(engine::Weight weight, std::string text) {
  events_->tell(weight, "shared plan", std::move(text));
}

void PlanSharer::settle() {
  std::unique_lock lock(mutex_);
  changed_.wait_for(lock, kPartKnownWithin, [this] { return settled_ || stop_; });
}

Result<std::pair<revision::SealKey, std::string>> PlanSharer::part() {
  const std::lock_guard lock(mutex_);
  if (key_ && !stop_) return std::pair(*key_, origin_);
  return fail(Errc::conflict,
              fmt::format("the plan '{}' is shared with other nodes, and this one has no part in it yet{}{}",
                          escaped(parts_.plan), problem_.empty() ? "" : ": ", problem_));
}

// By a connection of its own, so that nobody waits for the thread that listens. One that is dead by now (the
// database was started again) is made anew, once.
template <class Call>
auto PlanSharer::ask(Call call) -> decltype(call(std::declval<shared::SharedPlan&>())) {
  const std::lock_guard one_at_a_time(asking_mutex_);
  for (bool again = asking_ != nullptr;; again = false) {
    if (!asking_) {
      auto opened = shared::SharedPlan::open(parts_.wish, parts_.plan);
      if (!opened)
        return fail(opened.error().code,
                    "the plan is shared with other nodes, and their database cannot be asked, so nothing was "
                    "changed: " +
                        opened.error().text);
      const std::lock_guard lock(mutex_);
      asking_ = std::move(*opened);
    }
    auto out = call(*asking_);
    if (out || out.error().code != Errc::unreachable) return out;
    {
      const std::lock_guard lock(mutex_);
      asking_.reset();
    }
    if (!again) return out;
  }
}

Result<std::uint64_t> PlanSharer::agree(std::uint64_t behind, const revision::SharedChange& change) {
  const auto part = this->part();
  if (!part) return part.error();
  const auto& [key, origin] = *part;
  host::SystemRandom random;
  const shared::SealedChange next = sealed(key, origin, behind + 1, change, random);
  const Status added = ask([&](shared::SharedPlan& there) -> Status {
    const auto state = there.state();
    if (!state) return state.error();
    if (state->origin == part->second) return there.add(next);
    return fail(Errc::conflict,
                fmt::format("the plan '{}' in the database is another one by now", escaped(parts_.plan)));
  });
  if (!added) return added.error();
  return next.number;
}

Status PlanSharer::admit(const std::string& node, const std::string& fingerprint, const std::string& by) {
  const auto part = this->part();
  if (!part) return part.error();
  host::SystemRandom random;
  return ask([&](shared::SharedPlan& there) -> Status {
    const auto waiting = there.waiting();
    if (!waiting) return waiting.error();
    std::vector<std::string> asking;
    for (const shared::Member& one : *waiting) {
      asking.push_back(one.node + " " + revision::fingerprint(one.public_key));
      if (asking.back() != node + " " + fingerprint) continue;
      auto wrapped = revision::wrap(part->first, one.public_key, random);
      if (!wrapped) return wrapped.error();
      return there.admit({one.node, one.public_key, std::move(*wrapped)}, by);
    }
    return fail(Errc::not_found,
                fmt::format("no node '{}' asks with {}; {}", escaped(node), escaped(fingerprint),
                            asking.empty() ? "nobody waits to be let in" : "waiting: " + join(asking, ", ")));
  });
}

}  // namespace jembatan::server
