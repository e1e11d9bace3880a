// The server: options, signals, exit codes.
#include <fmt/format.h>
#include <unistd.h>

#include <csignal>
#include <cstdio>
#include <mutex>
#include <thread>
#include <vector>

#include "admin/api.h"
#include "base/text.h"
#include "host/process.h"
#include "host/secret_file.h"
#include "server/log.h"

namespace {

using namespace jembatan;

constexpr Duration kGrace{2000};  // beyond stop_within

enum class Exit { done = 0, no = 1, usage = 2, bug = 70 };

constexpr std::string_view kUsage =
    "jembatand: RADIUS server and proxy\n"
    "Usage: jembatand --node FILE\n"
    "  --node FILE   the node file (TOML)\n"
    "  --version     prints the version\n"
    "  --help        prints this\n"
    "SIGHUP reads the plan again; SIGTERM stops when all is answered, a second one at once. The log goes to "
    "standard\n"
    "error. Example:\n"
    "  jembatand --node node.toml\n";

int code(Exit exit) {
  return static_cast<int>(exit);
}

// Advice is no reason: where there are errors, they alone are told.
void log_problems(const document::Problems& problems) {
  document::Problems errors;
  for (const document::Problem& problem : problems.list()) {
    if (problem.level == document::Level::error) errors.add(problem);
  }
  const std::string report = errors.errors() > 0 ? errors.text() : "";
  for (const std::string_view line : split(report, '\n')) {
    if (!line.empty()) server::log_error(line);
  }
}

int refuse_to_start(const document::Problems& problems, const std::string& why) {
  log_problems(problems);
  server::log_error("not started: " + why);
  server::finish_log();
  return code(Exit::no);
}

void reload(server::Server& server) {
  document::Problems problems;
  const auto applied = server.reload({"SIGHUP", revision::Role::administrator, ""}, problems, {});
  if (applied) return;
  log_problems(problems);
  server::log_error(fmt::format("plan: {}; the active plan stays in force", applied.error().text));
}

// Takes SIGTERM, SIGINT and SIGHUP from its making on, so that none is lost while the server starts. To be
// made before any thread is.
class Signals {
 public:
  Signals() {
    sigemptyset(&wanted_);
    for (const int signal : {SIGTERM, SIGINT, SIGHUP}) sigaddset(&wanted_, signal);
    pthread_sigmask(SIG_BLOCK, &wanted_, nullptr);
  }
  int next() const {
    int signal = 0;
    while (sigwait(&wanted_, &signal) != 0) continue;
    return signal;
  }
  /// The next one, or 0 if none comes within this time.
  int next_within(Duration time) const {
    const auto seconds = std::chrono::duration_cast<std::chrono::seconds>(time);
    const timespec wait{seconds.count(), std::chrono::nanoseconds(time - seconds).count()};
    const int signal = sigtimedwait(&wanted_, nullptr, &wait);
    return signal < 0 ? 0 : signal;
  }

 private:
  sigset_t wanted_{};
};

// Reloads run on a thread of their own, one at a time: a slow one holds up neither requests nor the end.
class Reloads {
 public:
  explicit Reloads(server::Server& server) : server_(server) {}
  ~Reloads() {
    if (thread_.joinable()) thread_.join();
  }
  void start() {
    const std::lock_guard lock(mutex_);
    again_ = running_;
    if (std::exchange(running_, true)) return;
    if (thread_.joinable()) thread_.join();
    thread_ = std::thread([this] {
      do {
        reload(server_);
      } while (asked_again());
    });
  }

 private:
  bool asked_again() {
    const std::lock_guard lock(mutex_);
    running_ = std::exchange(again_, false);
    return running_;
  }
  server::Server& server_;
  std::mutex mutex_;
  bool running_ = false;
  bool again_ = false;
  std::thread thread_;
};

// Whoever is in a hurry asks twice; and nothing that hangs holds the end up for ever.
void end_at_once_when_asked_again(const Signals& signals, Duration stop_within) {
  std::thread([signals, at_most = stop_within + kGrace] {
    int signal = SIGHUP;
    while (signal == SIGHUP) signal = signals.next_within(at_most);
    server::log_warning(signal == 0 ? "stopped at once (stop_within was not enough)"
                                    : "stopped at once (asked a second time)");
    server::finish_log();
    _exit(code(Exit::no));
  }).detach();
}

int run(const std::string& node_file) {
  server::open_log(host::LogFormat::text, "info");
  document::Problems problems;
  auto settings = host::read_node_file(node_file, problems);
  if (!settings) return refuse_to_start(problems, "the node file has " + problems.count_text());
  server::open_log(settings->log_format, settings->log_level);
  host::set_core_dumps(settings->core_dumps ? host::CoreDumps::yes : host::CoreDumps::no);
  Signals signals;
  auto server = server::Server::start(*settings, problems);
  if (!server) return refuse_to_start(problems, server.error().text);
  host::SystemRandom random;
  auto token = host::open_secret_file(settings->token_file, "token file", random);
  if (!token) return refuse_to_start({}, token.error().text);
  auto api = admin::Api::start(**server, std::move(*token));
  if (!api) return refuse_to_start({}, api.error().text);
  if (const Status announced = (*server)->announce(); !announced)
    return refuse_to_start({}, announced.error().text);
  server::log_info(fmt::format("node {} is up version={} management={} process={}", settings->name,
                               JEMBATAN_VERSION, settings->management.text(), getpid()));
  {
    Reloads reloads(**server);
    while (signals.next() == SIGHUP) reloads.start();
    end_at_once_when_asked_again(signals, settings->stop_within);
  }
  server::log_info(fmt::format("node {} stops", settings->name));
  api->reset();
  (*server)->stop();
  server::log_info(fmt::format("node {} has stopped", settings->name));
  server::finish_log();
  return code(Exit::done);
}

}  // namespace

int main(int argc, char** argv) {
  std::signal(SIGPIPE, SIG_IGN);
  const std::vector<std::string_view> given(argv + 1, argv + argc);
  if (given == std::vector<std::string_view>{"--version"}) {
    fmt::print("jembatand {}\n", JEMBATAN_VERSION);
    return code(Exit::done);
  }
  if (given == std::vector<std::string_view>{"--help"}) {
    fmt::print("{}", kUsage);
    return code(Exit::done);
  }
  if (given.size() != 2 || given.front() != "--node") {
    fmt::print(stderr, "jembatand: wanted is --node FILE, and nothing else\n{}", kUsage);
    return code(Exit::usage);
  }
  const std::string node_file(given.back());
  try {
    return run(node_file);
  } catch (const std::exception& error) {
    fmt::print(stderr, "jembatand: {}\nThis is a mistake of ours: please report it with this line.\n",
               error.what());
    return code(Exit::bug);
  }
}
