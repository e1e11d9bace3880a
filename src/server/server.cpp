#include "server/server.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <malloc.h>
#include <netinet/in.h>
#include <sys/file.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "document/parse.h"
#include "host/certificate.h"
#include "host/process.h"
#include "host/secret_file.h"
#include "plan/read.h"
#include "revision/since.h"
#include "server/accounting_writer.h"
#include "server/authorizer.h"
#include "server/deliverer.h"
#include "server/directories.h"
#include "server/event_log.h"
#include "server/filler.h"
#include "server/journal_writer.h"
#include "server/log.h"
#include "server/mirror.h"
#include "server/plan_sharer.h"
#include "server/prober.h"
#include "server/proof_pool.h"
#include "server/queue_sharer.h"
#include "server/sharer.h"
#include "server/worker.h"
#include "store/accounting_store.h"
#include "store/journal_store.h"
#include "store/plan_store.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;
using forward::Purpose;

constexpr std::uintmax_t kLeastSpace = 1U << 20U;

std::size_t worker_count(const host::NodeSettings& settings) {
  if (settings.workers > 0) return static_cast<std::size_t>(settings.workers);
  return host::usable_processors();
}

// A folder that an editor is saving into is read until it has been the same twice.
Result<std::vector<plan::SourceFile>> stable_files(const std::filesystem::path& folder,
                                                   document::Problems& problems) {
  constexpr int kTries = 20;
  const auto same = [](const plan::SourceFile& a, const plan::SourceFile& b) {
    return a.name == b.name && a.text == b.text;
  };
  std::optional<std::vector<plan::SourceFile>> before;
  document::Problems found;
  for (int i = 0; i < kTries; ++i) {
    document::Problems now;
    auto files = plan::folder_files(folder, now);
    found = now;
    if (files && before && std::equal(files->begin(), files->end(), before->begin(), before->end(), same))
      return std::move(*files);
    before = std::move(files);
    std::this_thread::sleep_for(50ms);
  }
  if (before) return fail(Errc::conflict, fmt::format("the plan in '{}' is being written", folder.string()));
  problems = found;
  return fail(Errc::malformed,
              fmt::format("the plan in '{}' has {}", folder.string(), problems.count_text()));
}

const revision::Author kFolder{"plan folder", revision::Role::administrator, ""};

// How an operator lets a client in that nobody has entered.
std::string way_to_add(const host::NodeSettings& settings) {
  if (!settings.plan_folder.empty()) return "--plan " + settings.plan_folder.string();
  return "--node " + settings.file.string();
}

// Sockets of the workers with their lanes, connections of the management interface, files of the stores.
std::size_t most_open_files(const host::NodeSettings& settings) {
  constexpr std::size_t kLanes = 64;  // a quarter of those that there can be: 8,192 requests wait for servers
  return 400 + worker_count(settings) * (settings.access.size() + settings.accounting.size() + kLanes);
}

// Sessions as the accounting store has them.
class StoredSessions final : public engine::SessionFinder {
 public:
  explicit StoredSessions(Server& server) : server_(server) {}
  Result<std::vector<accounting::Session>> sessions(const accounting::Query& query) override {
    return server_.with_accounting([&](accounting::Store& store) { return store.sessions(query); });
  }
  Result<std::vector<accounting::Record>> records_of(const accounting::Session& session) override {
    return server_.records_of(session);
  }

 private:
  Server& server_;
};

std::string plan_line(const forward::LivePlan& live) {
  const plan::Plan& plan = *live.plan;
  return fmt::format("plan: revision {} in force clients={} users={} realms={} groups={}", live.revision,
                     plan.clients.size(), plan.users.size(), plan.realms.size(), plan.groups.size());
}

}  // namespace

Server::Server(host::NodeSettings settings)
    : settings_(std::move(settings)), started_(std::chrono::steady_clock::now()) {}

Result<std::unique_ptr<Server>> Server::start(host::NodeSettings settings, document::Problems& problems) {
  std::unique_ptr<Server> out(new Server(std::move(settings)));
  if (const Status s = host::allow_open_files(most_open_files(out->settings_)); !s) return s.error();
  if (const Status s = out->lock_data_folder(); !s) return s.error();
  if (const Status s = out->open_store(); !s) return s.error();
  if (const Status s = out->open_plan(problems); !s) return s.error();
  if (const Status s = out->open_sockets(); !s) return s.error();
  if (const Status s = out->look_at_certificate(); !s) return s.error();
  if (const Status s = out->start_threads(); !s) return s.error();
  return out;
}

Server::~Server() {
  stop();
  if (lock_ < 0) return;
  (void)!ftruncate(lock_, 0);
  ::close(lock_);
}

Status Server::lock_data_folder() {
  std::error_code failed;
  std::filesystem::create_directories(settings_.data_folder, failed);
  const std::string path = (settings_.data_folder / "lock").string();
  if (!failed) lock_ = ::open(path.c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0600);
  if (failed || lock_ < 0) {
    return fail(Errc::io, fmt::format("data folder '{}': {}", settings_.data_folder.string(),
                                      failed ? failed.message() : std::strerror(errno)));
  }
  if (flock(lock_, LOCK_EX | LOCK_NB) == 0) return {};
  return fail(Errc::conflict,
              fmt::format("data folder '{}' is in use by another jembatand", settings_.data_folder.string()));
}

Status Server::announce() {
  const std::string text = std::to_string(getpid()) + "\n";
  if (ftruncate(lock_, 0) == 0 &&
      pwrite(lock_, text.data(), text.size(), 0) == static_cast<ssize_t>(text.size()))
    return {};
  return fail(Errc::io,
              fmt::format("data folder '{}': {}", settings_.data_folder.string(), std::strerror(errno)));
}

Status Server::open_store() {
  auto store = store::AccountingStore::open(settings_.data_folder);
  if (!store) return store.error();
  for (const store::Mended& one : (*store)->mended())
    log_error(
        fmt::format("accounting store: '{}' was damaged ({}); {} rows of it could be read and are in a "
                    "new file; what was there is set aside as '{}'",
                    one.file.string(), one.why, one.rows, one.set_aside.string()));
  store_ = std::move(*store);
  return open_journal();
}

Status Server::open_journal() {
  if (settings_.journal.keep == Duration{0}) {
    if (store::JournalStore::remove(settings_.data_folder))
      log_info("journal: removed, for journal.keep is 0s: this node keeps none");
    journal_writer_ = std::make_unique<JournalWriter>(nullptr, settings_.journal);
    past_requests_ = std::make_unique<PastRequests>(nullptr, nullptr);
    return {};
  }
  auto to_read = store::JournalStore::open(settings_.data_folder);
  if (!to_read) {
    const auto aside = store::JournalStore::set_aside(settings_.data_folder);
    if (!aside) return to_read.error();
    log_warning(fmt::format("journal: {}; it was set aside as '{}', and a new one is begun",
                            to_read.error().text, *aside));
    to_read = store::JournalStore::open(settings_.data_folder);
    if (!to_read) return to_read.error();
  }
  auto to_write = store::JournalStore::open(settings_.data_folder);
  if (!to_write) return to_write.error();
  journal_writer_ = std::make_unique<JournalWriter>(std::move(*to_write), settings_.journal);
  past_requests_ = std::make_unique<PastRequests>(
      std::move(*to_read), [this](std::uint64_t revision) { return plan_of(revision); });
  return {};
}

Result<plan::PlanPtr> Server::plan_of(std::uint64_t revision) {
  if (const auto live = plan_.current(); live->revision == revision) return live->plan;
  return with_revisions([&](revision::Keeper& keeper) { return keeper.plan_of(revision); });
}

// The plan's revisions. With a plan folder, what stands there is the plan; without, the newest revision is.
Status Server::open_plan(document::Problems& problems) {
  auto hex = host::open_secret_file(settings_.key_file, "key file", random_);
  if (!hex) return hex.error();
  auto key = revision::SealKey::parse(*hex);
  if (!key) return key.error().at(fmt::format("key file '{}'", settings_.key_file.string()));
  if (const Status shared = share_plan(*key); !shared) return shared;
  auto store = store::PlanStore::open(settings_.data_folder, plan_sharer_.get());
  auto archive = store::PlanStore::open(settings_.data_folder, plan_sharer_.get());
  if (!store) return store.error();
  if (!archive) return archive.error();
  auto shared_key = PlanSharer::kept_key(**store, *key);
  if (!shared_key) return shared_key.error();
  plan_store_ = std::move(*store);
  archive_ = std::move(*archive);
  keeper_ = std::make_unique<revision::Keeper>(*plan_store_, shared_key->value_or(std::move(*key)), random_);
  if (!settings_.plan_folder.empty()) {
    document::Problems ignored;
    if (const auto last = keeper_->load(ignored)) hosts_.remember(*last->plan);
    const auto read = reload(kFolder, problems, {true});
    return read ? Status{} : Status{read.error()};
  }
  const auto newest = keeper_->load(problems);
  if (!newest) return newest.error();
  put_into_force(*newest);
  return {};
}

void Server::put_into_force(const revision::Applied& applied) {
  hosts_.remember(*applied.plan);
  if (directories_) directories_->use(*applied.plan);
  plan_.publish(healths_.go_live(applied.plan, applied.revision));
  if (prober_) prober_->new_plan();
  if (authorizer_) authorizer_->new_plan();
  if (host_watch_) host_watch_->look();
  if (deliverer_) deliverer_->look({});
  malloc_trim(0);  // reading a large plan leaves much behind that nothing needs any more
  log_info(plan_line(*plan_.current()));
}

// Every port is first bound alone: sharing it with another server would go unnoticed.
Status Server::open_sockets() {
  sockets_.resize(worker_count(settings_));
  const auto open = [this](const std::vector<Endpoint>& endpoints, Purpose purpose) -> Status {
    for (const Endpoint& endpoint : endpoints) {
      if (const auto alone = UdpSocket::bind(endpoint, SharePort::no); !alone) return alone.error();
      for (auto& listeners : sockets_) {
        auto socket = UdpSocket::bind(endpoint, SharePort::yes);
        if (!socket) return socket.error();
        listeners.push_back({purpose, endpoint, std::move(*socket)});
      }
      log_info(fmt::format("listening for {} on {}", forward::name_of(purpose), endpoint.text()));
    }
    return {};
  };
  if (Status s = open(settings_.access, Purpose::access); !s) return s;
  if (Status s = open(settings_.accounting, Purpose::accounting); !s) return s;
  for (const Endpoint& endpoint : settings_.authorization) {
    auto socket = UdpSocket::bind(endpoint, SharePort::no);
    if (!socket) return socket.error();
    session_sockets_.push_back({Purpose::authorization, endpoint, std::move(*socket)});
    log_info(
        fmt::format("listening for {} on {}", forward::name_of(Purpose::authorization), endpoint.text()));
  }
  return {};
}

Status Server::look_at_certificate() {
  if (settings_.certificate.empty()) return {};
  const auto at = [this](const Error& error) {
    return error.at(fmt::format("certificate '{}'", settings_.certificate.string()));
  };
  const auto pem = document::read_file(settings_.certificate);
  if (!pem) return at(pem.error());
  const auto expiry = host::expiry_of(*pem);
  if (!expiry) return at(expiry.error());
  certificate_expires_ = *expiry;
  return {};
}

void Server::warn_of_certificate(WallTime now) {
  if (!certificate_expires_ || now - certificate_told_ < 24h) return;
  certificate_told_ = now;
  const std::string what = host::expiry_text(*certificate_expires_, now);
  if (!what.empty())
    log_warning(
        fmt::format("certificate '{}' of the management interface: {}; clients will not trust it then: "
                    "replace the file and start again",
                    settings_.certificate.string(), what));
}

Status Server::start_threads() {
  const auto off_since = [this](const std::string& client) {
    const auto found = with_archive([&](revision::Archive& archive) {
      return revision::last_change(archive, "client", client, "enabled");
    });
    return found ? revision::since_text(*found) : "";
  };
  events_ = std::make_unique<EventLog>(
      feed_, tally_, *journal_writer_, settings_.log_format,
      About{"--node " + settings_.file.string(), way_to_add(settings_), off_since}, [this] {
        const WallTime now = host::SystemClock().now().wall;
        unmask_.tick(now);
        warn_of_certificate(now);
      });
  proofs_ = std::make_unique<ProofPool>(sockets_.size());
  directories_ = std::make_unique<Directories>(*events_);
  directories_->use(*plan_.current()->plan);
  if (const Status s = open_codes(); !s) return s;
  prober_ =
      std::make_unique<Prober>(Prober::Parts{plan_, *events_, tap_}, settings_.send_from, settings_.name);
  const auto doubts = [this] { prober_->look(); };
  if (const Status s = start_accounting(); !s) return s;
  Octets chance(32);
  random_.fill(chance);
  slowdown_ = std::make_shared<engine::Slowdown>(load64(chance.data()));
  const auto loop_mark =
      std::make_shared<const engine::LoopMark>(Secret(text_of(OctetView(chance).subspan(8, 16))));
  mirror_ = std::make_unique<Mirror>(Mirror::Parts{*events_, tap_, loop_mark}, settings_.send_from);
  authorizer_ = std::make_unique<Authorizer>(
      Authorizer::Parts{plan_, *events_, tap_, loop_mark, std::make_unique<StoredSessions>(*this)},
      std::move(session_sockets_), settings_.send_from);
  const auto copies = [this](std::vector<engine::Actions::Copy>& some) { mirror_->take(some); };
  const auto origins = std::make_shared<engine::Origins>(load64(chance.data() + 24));
  for (auto& listeners : sockets_) {
    workers_.push_back(std::make_unique<Worker>(
        workers_.size(), std::move(listeners), settings_.send_from,
        Shared{plan_, *events_, *writer_, *proofs_, *directories_, *codes_, tap_, unmask_, doubts, copies,
               slowdown_, loop_mark, conversations_, origins, remembered_, online_, settings_.group_share,
               settings_.client_share}));
  }
  sockets_.clear();
  host_watch_ = std::make_unique<HostWatch>(hosts_, [this] { return follow_host_names(); });
  host_watch_->start();
  prober_->start();
  mirror_->start();
  authorizer_->start();
  if (sharer_) sharer_->start();
  if (queue_sharer_) queue_sharer_->start();
  if (plan_sharer_) plan_sharer_->start(*events_);
  for (auto& worker : workers_) worker->start();
  return {};
}

Result<revision::Applied> Server::reload(const revision::Author& author, document::Problems& problems,
                                         Reload how) {
  const std::lock_guard lock(plan_mutex_);
  const std::filesystem::path& folder = settings_.plan_folder;
  if (folder.empty())
    return fail(Errc::not_allowed,
                "this node has no plan_folder in its node file: its plan is changed by commands");
  const auto files = stable_files(folder, problems);
  if (!files) return files.error();
  plan::Outside outside = plan::folder_outside(folder);
  outside.resolve = [this](const std::string& host) { return hosts_.addresses_of(host); };
  outside.now = host::SystemClock().now().wall;
  const revision::Wish wish{author, "", std::nullopt, how.dry_run, how.force, *outside.now, "plan folder"};
  auto applied = keeper_->apply(*files, std::move(outside), wish, problems);
  if (!applied && applied.error().code == Errc::malformed && problems.errors() > 0)
    return fail(Errc::malformed,
                fmt::format("the plan in '{}' has {}", folder.string(), problems.count_text()));
  if (applied && !how.dry_run) put_into_force(*applied);
  return applied;
}

Result<revision::Applied> Server::change_plan(
    const std::function<Result<revision::Applied>(revision::Keeper&)>& change) {
  if (plan_sharer_) plan_sharer_->settle();
  const std::lock_guard lock(plan_mutex_);
  auto applied = change(*keeper_);
  if (applied && applied->revision != plan_.current()->revision) put_into_force(*applied);
  return applied;
}

bool Server::follow_host_names() {
  if (plan_sharer_ && !plan_sharer_->leads()) return false;
  document::Problems problems;
  plan::Outside outside;
  outside.resolve = [this](const std::string& host) { return hosts_.known_addresses_of(host); };
  const revision::Wish wish{{"host names", {}, ""},
                            "host names lead elsewhere",
                            std::nullopt,
                            false,
                            false,
                            clock_.now().wall,
                            "host names"};
  const auto followed =
      change_plan([&](revision::Keeper& keeper) { return keeper.look_up_again(outside, wish, problems); });
  if (!followed) log_error(followed.error().at("host names lead elsewhere, but the plan stays").text);
  return true;
}

void Server::settle() {
  events_->settle();
  journal_writer_->settle();
}

std::vector<engine::MirrorTally> Server::mirrors() const {
  std::vector<engine::MirrorTally> out = engine::mirrors_in(*plan_.current()->plan);
  for (engine::MirrorTally& counted : mirror_->tallies()) {
    const auto listed = std::find_if(out.begin(), out.end(), [&](const engine::MirrorTally& one) {
      return one.of == counted.of && one.to == counted.to;
    });
    if (listed == out.end()) {
      out.push_back(std::move(counted));
    } else {
      *listed = std::move(counted);
    }
  }
  return out;
}

NodeStatus Server::status() const {
  NodeStatus out;
  out.name = settings_.name;
  out.version = JEMBATAN_VERSION;
  out.plan_revision = plan_.current()->revision;
  out.up = std::chrono::duration_cast<std::chrono::seconds>(std::chrono::steady_clock::now() - started_);
  out.workers = workers_.size();
  std::vector<const engine::Counters*> all{&deliverer_->counters(), &mirror_->counters(),
                                           &authorizer_->counters()};
  for (const auto& worker : workers_) {
    all.push_back(&worker->counters());
    out.in_flight += worker->in_flight();
  }
  for (const auto* counters : all) {
    out.received += counters->received_count();
    out.late += counters->late_count();
  }
  for (std::size_t i = 0; i < decide::kOutcomes; ++i) {
    const auto outcome = static_cast<engine::Outcome>(i);
    if (!decide::is_of_datagrams(outcome)) continue;
    std::uint64_t count = 0;
    for (const auto* counters : all) count += counters->count(outcome);
    out.outcomes.emplace_back(outcome, count);
  }
  out.conversations = conversations_->size();
  out.conversations_pushed_out = conversations_->pushed_out();
  out.accounting_under_way = deliverer_->under_way();
  out.accounting_backlog = writer_->backlog();
  out.events_shed = events_->shed();
  out.journal_shed = journal_writer_->shed();
  out.degraded = degraded();
  out.certificate_expires = certificate_expires_;
  return out;
}

std::string Server::why_not_ready() const {
  if (plan_.current()->revision == 0) return "no plan is in force yet";
  for (const std::string& problem : {writer_->problem(), filler_->problem()}) {
    if (!problem.empty()) return "records cannot be kept: " + problem;
  }
  std::error_code failed;
  const auto space = std::filesystem::space(settings_.data_folder, failed);
  if (!failed && space.available < kLeastSpace)
    return fmt::format("records cannot be kept: {} KiB are free in the data folder '{}'",
                       space.available >> 10U, settings_.data_folder.string());
  return {};
}

void Server::stop() {
  if (workers_.empty()) return;
  for (auto& worker : workers_) worker->stop_listening();
  const auto in_flight = [this] {
    std::size_t sum = 0;
    for (const auto& worker : workers_) sum += worker->in_flight();
    return sum;
  };
  const TimePoint until = std::chrono::steady_clock::now() + settings_.stop_within;
  while (in_flight() > 0 && std::chrono::steady_clock::now() < until) std::this_thread::sleep_for(5ms);
  stopping_ = true;
  host_watch_->stop();
  prober_->stop();
  mirror_->stop();
  authorizer_->stop();
  if (sharer_) sharer_->stop();
  if (queue_sharer_) queue_sharer_->stop();
  if (plan_sharer_) plan_sharer_->stop();
  deliverer_->stop();
  writer_->stop();  // what it still writes is told to the workers, who answer it
  {
    const std::lock_guard lock(accounting_mutex_);
    accounting_readers_.clear();  // who writes closes last, and tidies up
  }
  filler_->stop();
  proofs_->stop();
  directories_->stop();
  codes_->stop();
  for (auto& worker : workers_) worker->stop();
  workers_.clear();
  events_->stop();
  journal_writer_->stop();
  feed_.close();
}

}  // namespace jembatan::server
