#pragma once
// Real servers on free loopback ports, asked through the real client and through a second encoder.
#include <cstdlib>
#include <nlohmann/json.hpp>

#include "support/process.h"

namespace jembatan::blackbox {

/// The folder of the programs: those of this build, or what the variable JEMBATAN_PROGRAMS says, so that the
/// programs of another build are tested without building the tests again.
inline const std::string kPrograms =
    std::getenv("JEMBATAN_PROGRAMS") == nullptr ? JEMBATAN_PROGRAMS : std::getenv("JEMBATAN_PROGRAMS");
inline const std::string kServer = kPrograms + "/jembatand";
inline const std::string kClient = kPrograms + "/jembatan";

/// One node in a folder of its own: write the plan, start, ask, stop.
class TestNode {
 public:
  enum class Plan { in_folder, by_commands };
  explicit TestNode(const std::string& name, const std::string& more = "", Plan from = Plan::in_folder);
  /// Writes plan/NAME.toml.
  void plan(const std::string& text, const std::string& name = "plan") const;
  void start();  ///< waits until it is up; fails the test if it does not come up
  /// Stops with SIGTERM; gives the exit code.
  int stop();
  /// Waits for its end; gives the exit code.
  int wait() { return process_->wait().value_or(-1000); }
  void kill();
  int process() const { return process_->process(); }
  void signal(int number) const { process_->signal(number); }

  std::string access_to() const { return "127.0.0.1:" + std::to_string(access); }
  std::string accounting_to() const { return "127.0.0.1:" + std::to_string(accounting); }
  std::string authorization_to() const { return "127.0.0.1:" + std::to_string(authorization); }
  std::string file() const { return (folder_.path() / "node.toml").string(); }
  std::filesystem::path path(const std::string& name) const { return folder_.path() / name; }
  std::string log() const { return support::read_file(folder_.path() / "log"); }
  bool log_has(const std::string& text) const;  ///< polls
  /// What the API answers, through the client: `jembatan WORDS… --node FILE --json`.
  nlohmann::json ask_node(std::vector<std::string> words) const;
  std::string token() const { return support::read_file(folder_.path() / "data" / "management.token"); }

  std::vector<std::string> words_before;  ///< the program's, like "env", "NAME=VALUE"
  int access = support::free_port();
  int accounting = support::free_port();
  int authorization = support::free_port();
  int management = support::free_port();

 private:
  support::TemporaryFolder folder_;
  std::string name_;
  std::unique_ptr<support::Background> process_;
};

/// `jembatan WORDS…`
support::Finished client(std::vector<std::string> words, const std::vector<std::string>& environment = {});

/// A [[client]] for 127.0.0.1.
std::string client_here(const std::string& secret);
/// A plan that handles reef.example here, for a client on 127.0.0.1 with the secret "laut" and the user
/// tamu@reef.example with the password "ombak-3".
inline const std::string kHere = client_here("laut") + R"(
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
)";
/// A [[group]] with one server.
std::string group_to(const std::string& group, const TestNode& server, const std::string& secret);

}  // namespace jembatan::blackbox
