#include "server/directory_pool.h"

#include <fmt/format.h>

#include "host/process.h"
#include "host/system.h"
#include "identity/name.h"

namespace jembatan::server {

using namespace std::chrono_literals;
using decide::Person;
using directory::Connection;
using engine::Job;
using engine::LookedUp;

namespace {

constexpr std::size_t kMostTasks = 1000;
constexpr std::size_t kMostPeople = 20000;
constexpr auto kRest = 5s;               // of a server that was silent
constexpr std::size_t kMostLate = 3;     // people in a row
constexpr auto kConnectionLives = 5min;  // so that it goes back to the first of the servers

LookedUp no_answer(std::string why) {
  Person out;
  out.why = std::move(why);
  return {std::make_shared<const Person>(std::move(out)), {}};
}

directory::Wanted wanted_of(const Job::LookUp& job) {
  return {job.user, job.realm, job.name};
}

}  // namespace

DirectoryPool::DirectoryPool(std::string name, std::size_t threads, Tell tell)
    : name_(std::move(name)), size_(threads), tell_(std::move(tell)) {
  running_ = threads;
  for (std::size_t i = 0; i < threads; ++i) {
    threads_.emplace_back([this] {
      host::name_thread("directory");
      run();
      --running_;
    });
  }
}

DirectoryPool::~DirectoryPool() {
  stop();
}

void DirectoryPool::look_up(Job::LookUp job, Told told) {
  const TimePoint until = std::chrono::steady_clock::now() + job.within;
  std::string who = identity::comparable(job.name);
  {
    const std::lock_guard lock(mutex_);
    if (!stop_ && !leave_ && waiting_.size() < kMostTasks) {
      waiting_.push_back({std::move(job), std::move(told), until, std::move(who)});
      arrived_.notify_one();
      return;
    }
    ++unanswered_;
  }
  told(no_answer("too many people wait to be looked up"));
}

std::size_t DirectoryPool::forget(const std::string& name) {
  const std::lock_guard lock(mutex_);
  if (!name.empty()) return people_.erase(identity::comparable(name));
  const std::size_t out = people_.size();
  people_.clear();
  return out;
}

DirectoryStanding DirectoryPool::standing(const plan::Directory& directory) const {
  const std::lock_guard lock(mutex_);
  DirectoryStanding out;
  out.name = name_;
  for (const auto& server : directory.access.servers) {
    const auto known = servers_.find(server.url);
    const ServerState state = known == servers_.end() ? ServerState{} : known->second;
    out.servers.push_back({server.url, state.why, state.since});
  }
  out.waiting = waiting_.size();
  out.remembered = people_.size();
  out.looked_up = looked_up_;
  out.by_memory = by_memory_;
  out.unanswered = unanswered_;
  return out;
}

void DirectoryPool::leave() {
  {
    const std::lock_guard lock(mutex_);
    leave_ = true;
  }
  arrived_.notify_all();
}

void DirectoryPool::stop() {
  std::deque<Task> left;
  {
    const std::lock_guard lock(mutex_);
    stop_ = true;
    left = std::exchange(waiting_, {});
  }
  arrived_.notify_all();
  for (const Task& task : left) task.told(no_answer("the node stops"));
  for (std::thread& thread : threads_)
    if (thread.joinable()) thread.join();
}

// The first whose turn it is: nobody has more than half of the threads.
std::optional<DirectoryPool::Task> DirectoryPool::take() {
  const std::size_t most_each = std::max<std::size_t>(1, size_ / 2);
  std::unique_lock lock(mutex_);
  while (!stop_) {
    const auto next = std::find_if(waiting_.begin(), waiting_.end(), [&](const Task& task) {
      const auto busy = busy_with_.find(task.who);
      return busy == busy_with_.end() || busy->second < most_each;
    });
    if (next != waiting_.end()) {
      Task out = std::move(*next);
      waiting_.erase(next);
      ++busy_with_[out.who];
      return out;
    }
    if (leave_ && waiting_.empty()) return std::nullopt;
    arrived_.wait(lock);
  }
  return std::nullopt;
}

void DirectoryPool::done(const std::string& who) {
  {
    const std::lock_guard lock(mutex_);
    const auto busy = busy_with_.find(who);
    if (--busy->second == 0) busy_with_.erase(busy);
  }
  arrived_.notify_all();
}

// Whoever has waited for too long has ended elsewhere.
void DirectoryPool::run() {
  Connections connections;
  while (auto task = take()) {
    if (std::chrono::steady_clock::now() < task->until) task->told(answer(*task, connections));
    done(task->who);
  }
}

LookedUp DirectoryPool::answer(const Task& task, Connections& connections) {
  const Job::LookUp& job = task.job;
  const plan::Directory& directory = job.plan->directories[job.directory];
  const auto now = std::chrono::steady_clock::now();
  if (!(connections.access == directory.access) || now - connections.made > kConnectionLives) {
    connections = {};
    connections.access = directory.access;
    connections.made = now;
  }
  const auto& servers = directory.access.servers;
  std::string why;
  for (std::size_t tried = 0; tried < servers.size(); ++connections.server, ++tried) {
    connections.server %= servers.size();
    const auto& server = servers[connections.server];
    const bool was_connected = connections.searching != nullptr || connections.proving != nullptr;
    if (!was_connected && !may_ask(server, why)) continue;
    auto came = ask(task, connections);
    if (!came && came.error().code == Errc::unreachable && was_connected) {  // it was idle for too long
      connections.searching.reset();
      connections.proving.reset();
      came = ask(task, connections);
    }
    if (came) {
      answered(server);
      return std::move(*came);
    }
    why = came.error().text;
    const Errc code = came.error().code;
    if (code != Errc::unreachable && code != Errc::busy) break;  // the next one would say the same
    connections.searching.reset();
    connections.proving.reset();
    if (code == Errc::unreachable || counts_as_silent(server, task.who)) fell_silent(server, why);
  }
  const std::lock_guard lock(mutex_);
  ++unanswered_;
  return no_answer(why);
}

// Who it is, then whether the password is right. What is remembered of somebody is never a password.
Result<LookedUp> DirectoryPool::ask(const Task& task, Connections& connections) {
  const Job::LookUp& job = task.job;
  const plan::Directory& directory = job.plan->directories[job.directory];
  const auto& server = directory.access.servers[connections.server];
  LookedUp out;
  const decide::PersonPtr known = remembered(task);
  if (known != nullptr && !job.stored) {
    out.person = known;
  } else {
    if (Status ready = search_by(connections); !ready) return ready.error();
    auto found = directory::find_person(
        *connections.searching, {directory, wanted_of(job), host::SystemClock().now().wall, known.get()});
    if (!found) return found.error();
    if (job.stored) out.stored = std::move(found->stored);
    remember(task, std::make_shared<const Person>(found->person));
    found->person.server = server.url;
    out.person = std::make_shared<const Person>(std::move(found->person));
  }
  if (!job.typed || out.person->found != Person::Found::one) return out;
  if (connections.proving == nullptr) {
    auto opened = Connection::open(directory.access, server);
    if (!opened) return opened.error();
    connections.proving = std::move(*opened);
  }
  const auto bound = connections.proving->bind(out.person->name, job.typed->reveal());
  if (!bound) return bound.error();
  Person person = *out.person;
  person.server = server.url;
  person.password = bound->right ? Person::Password::right : Person::Password::wrong;
  if (person.account == Person::Account::usable) person.account = bound->account;
  if (!bound->right && !bound->wrong && person.account == Person::Account::usable) person.why = bound->text;
  if (!bound->right) forget(job.name);  // the entry may be another one by now
  out.person = std::make_shared<const Person>(std::move(person));
  return out;
}

Status DirectoryPool::search_by(Connections& connections) {
  if (connections.searching != nullptr) return {};
  const plan::DirectoryAccess& access = connections.access;
  auto opened = Connection::open(access, access.servers[connections.server]);
  if (!opened) return opened.error();
  if (!access.account.empty()) {
    const auto bound = (*opened)->bind(access.account, access.secret.reveal());
    if (!bound) return fail(Errc::unreachable, bound.error().text);  // it is about nobody in particular
    if (!bound->right)
      return fail(Errc::unreachable,
                  fmt::format("it refuses the account {} ({})", access.account, bound->text));
  }
  connections.searching = std::move(*opened);
  return {};
}

decide::PersonPtr DirectoryPool::remembered(const Task& task) {
  const std::lock_guard lock(mutex_);
  if (people_by_ != task.job.plan) return nullptr;
  const auto found = people_.find(task.who);
  if (found == people_.end()) return nullptr;
  if (found->second.until <= std::chrono::steady_clock::now()) {
    people_.erase(found);
    return nullptr;
  }
  ++by_memory_;
  return found->second.person;
}

void DirectoryPool::remember(const Task& task, const decide::PersonPtr& person) {
  const Job::LookUp& job = task.job;
  const Duration keep = job.plan->directories[job.directory].keep;
  const std::lock_guard lock(mutex_);
  ++looked_up_;
  if (person->found != Person::Found::one || keep <= Duration{0}) return;
  if (people_by_ != job.plan) {  // by another plan they may be others
    people_.clear();
    people_by_ = job.plan;
  }
  if (people_.size() >= kMostPeople) people_.erase(people_.begin());
  people_[task.who] = {person, std::chrono::steady_clock::now() + keep};
}

// One that is silent is asked by one of those who wait, now and then.
bool DirectoryPool::may_ask(const plan::DirectoryAccess::Server& server, std::string& why) {
  const std::lock_guard lock(mutex_);
  const auto state = servers_.find(server.url);
  if (state == servers_.end() || state->second.why.empty()) return true;
  const auto now = std::chrono::steady_clock::now();
  why = state->second.why;
  if (now < state->second.rests_until) return false;
  state->second.rests_until = now + kRest;
  return true;
}

// One person for whom there is no answer (a password that is proved elsewhere, and not now) takes no server
// away from the others.
bool DirectoryPool::counts_as_silent(const plan::DirectoryAccess::Server& server, const std::string& who) {
  const std::lock_guard lock(mutex_);
  ServerState& state = servers_[server.url];
  if (state.late_for != who) ++state.late;
  state.late_for = who;
  return state.late >= kMostLate;
}

void DirectoryPool::fell_silent(const plan::DirectoryAccess::Server& server, const std::string& why) {
  {
    const std::lock_guard lock(mutex_);
    ServerState& state = servers_[server.url];
    state.rests_until = std::chrono::steady_clock::now() + kRest;
    const bool known = !state.why.empty();
    state.why = why;
    if (known) return;
    state.since = host::SystemClock().now().wall;
  }
  tell_(engine::Weight::warning, fmt::format("directory {}", name_),
        fmt::format("{} cannot be asked ({}); look closer: jembatan directory check {}", server.url, why,
                    name_));
}

void DirectoryPool::answered(const plan::DirectoryAccess::Server& server) {
  {
    const std::lock_guard lock(mutex_);
    ServerState& state = servers_[server.url];
    state.late = 0;
    state.late_for.clear();
    if (!state.since) state.since = host::SystemClock().now().wall;
    if (state.why.empty()) return;
    state.why.clear();
    state.since = host::SystemClock().now().wall;
  }
  tell_(engine::Weight::info, fmt::format("directory {}", name_),
        fmt::format("{} can be asked again", server.url));
}

}  // namespace jembatan::server
