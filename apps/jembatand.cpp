// The server: options, signals, exit codes.
#include <fmt/format.h>
#include <unistd.h>

#include <CLI/CLI.hpp>
#include <asio/io_context.hpp>
#include <asio/signal_set.hpp>
#include <csignal>
#include <cstdio>

#include "admin/api.h"
#include "base/text.h"
#include "server/log.h"
#include "server/secret_file.h"

namespace {

using namespace jembatan;

enum class Exit { done = 0, no = 1, usage = 2, bug = 70 };

int code(Exit exit) {
  return static_cast<int>(exit);
}

void log_problems(const document::Problems& problems) {
  const std::string report = problems.text();
  for (const std::string_view line : split(report, '\n')) {
    if (!line.empty()) server::log_error(line);
  }
}

int refuse_to_start(const document::Problems& problems, const std::string& why) {
  log_problems(problems);
  server::log_error("not started: " + why);
  return code(Exit::no);
}

void reload(server::Server& server) {
  document::Problems problems;
  const auto applied = server.reload({"SIGHUP", revision::Role::administrator, ""}, problems);
  if (applied) return;
  log_problems(problems);
  server::log_error(fmt::format("plan: {}; the active plan stays in force", applied.error().text));
}

// Catches signals from its making on, so that none is lost while the server starts.
class Signals {
 public:
  /// Acts upon them; returns when the server is to stop.
  void wait_for(server::Server& server) {
    wait(server);
    io_.run();
  }

 private:
  void wait(server::Server& server) {
    signals_.async_wait([this, &server](const asio::error_code& error, int signal) {
      if (error || signal != SIGHUP) return;
      reload(server);
      wait(server);
    });
  }
  asio::io_context io_;
  asio::signal_set signals_{io_, SIGTERM, SIGINT, SIGHUP};
};

int run(const std::string& node_file) {
  server::open_log(server::LogFormat::text, "info");
  document::Problems problems;
  auto settings = server::read_node_file(node_file, problems);
  if (!settings) return refuse_to_start(problems, "the node file has " + problems.count_text());
  server::open_log(settings->log_format, settings->log_level);
  Signals signals;
  auto server = server::Server::start(*settings, problems);
  if (!server) return refuse_to_start(problems, server.error().text);
  server::SystemRandom random;
  auto token = server::open_secret_file(settings->token_file, "token file", random);
  if (!token) return refuse_to_start({}, token.error().text);
  auto api = admin::Api::start(**server, std::move(*token));
  if (!api) return refuse_to_start({}, api.error().text);
  if (const Status announced = (*server)->announce(); !announced)
    return refuse_to_start({}, announced.error().text);
  server::log_info(fmt::format("node {} is up version={} management={} process={}", settings->name,
                               JEMBATAN_VERSION, settings->management.text(), getpid()));
  signals.wait_for(**server);
  std::signal(SIGTERM, SIG_IGN);  // once is enough: answers are under way
  server::log_info(fmt::format("node {} stops", settings->name));
  api->reset();
  (*server)->stop();
  server::log_info(fmt::format("node {} has stopped", settings->name));
  return code(Exit::done);
}

}  // namespace

int main(int argc, char** argv) {
  std::signal(SIGPIPE, SIG_IGN);
  CLI::App app{"jembatand: RADIUS server and proxy"};
  app.footer(
      "Example:\n  jembatand --node node.toml\n\nSIGHUP reads the plan again, SIGTERM stops. The log goes to "
      "standard error.");
  app.set_version_flag("--version", std::string("jembatand ") + JEMBATAN_VERSION);
  std::string node_file;
  app.add_option("--node", node_file, "the node file (TOML)")->required();
  try {
    app.parse(argc, argv);
  } catch (const CLI::ParseError& error) {
    return app.exit(error) == 0 ? code(Exit::done) : code(Exit::usage);
  }
  try {
    return run(node_file);
  } catch (const std::exception& error) {
    fmt::print(stderr, "jembatand: {}\nThis is a mistake of ours: please report it with this line.\n",
               error.what());
    return code(Exit::bug);
  }
}
