#include "lab/lab.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <netinet/in.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <algorithm>
#include <array>
#include <chrono>
#include <cstring>
#include <fstream>
#include <map>
#include <nlohmann/json.hpp>
#include <regex>
#include <thread>

#include "base/embedded.h"
#include "base/text.h"
#include "document/parse.h"
#include "lab/fault.h"
#include "lab/relay.h"

namespace jembatan::lab {
namespace {

using namespace std::chrono_literals;
namespace fs = std::filesystem;

constexpr auto kStartWithin = 20s;
constexpr auto kStopWithin = 15s;

template <class Condition>
bool wait_for(std::chrono::milliseconds within, Condition condition) {
  const auto until = std::chrono::steady_clock::now() + within;
  while (!condition()) {
    if (std::chrono::steady_clock::now() > until) return false;
    std::this_thread::sleep_for(10ms);
  }
  return true;
}

// A port of 127.0.0.1 that is free for UDP and TCP at this moment.
int free_port() {
  for (int tries = 0; tries < 100; ++tries) {
    const int udp = ::socket(AF_INET, SOCK_DGRAM, 0);
    const int tcp = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in address{};
    address.sin_family = AF_INET;
    socklen_t length = sizeof(address);
    auto* generic = reinterpret_cast<sockaddr*>(&address);
    const bool both = ::bind(udp, generic, length) == 0 && ::getsockname(udp, generic, &length) == 0 &&
                      ::bind(tcp, generic, length) == 0;
    ::close(udp);
    ::close(tcp);
    if (both) return ntohs(address.sin_port);
  }
  return 0;
}

// Replaces the demo's well-known ports, each by the same free one wherever it stands.
class Ports {
 public:
  std::string replaced(std::string_view text) {
    static const std::regex kKnown(R"(\b(1812|1813|8812)\b)");
    std::string out;
    const std::string whole(text);
    auto at = whole.cbegin();
    for (std::sregex_iterator it(whole.begin(), whole.end(), kKnown), end; it != end; ++it) {
      out.append(at, whole.cbegin() + it->position());
      std::string& port = chosen_[it->str()];
      if (port.empty()) port = std::to_string(free_port());
      out += port;
      at = whole.cbegin() + it->position() + it->length();
    }
    return out.append(at, whole.cend());
  }

 private:
  std::map<std::string, std::string> chosen_;
};

// A node of the lab listens at the next address: its stand-in has the one that the demo tells.
std::string behind_stand_in(std::string text) {
  static const std::regex kListens(R"((access|accounting)( = \["127\.0\.[0-9]+\.)1:)");
  return std::regex_replace(
      text, kListens, "# its stand-in in the lab listens at the address before: jembatan lab fault\n$1$022:");
}

Status write_demo(const fs::path& root, bool free_ports) {
  Ports ports;
  for (const EmbeddedFile& file : demo_world()) {
    const fs::path path = root / file.name;
    std::error_code failed;
    fs::create_directories(path.parent_path(), failed);
    std::ofstream out(path, std::ios::binary | std::ios::trunc);
    std::string text = free_ports ? ports.replaced(file.text) : std::string(file.text);
    out << (path.filename() == "node.toml" ? behind_stand_in(std::move(text)) : text);
    out.close();
    if (failed || !out) return fail(Errc::io, fmt::format("file '{}' cannot be written", path.string()));
    const bool secret = path.parent_path().filename() == "secrets";
    if (secret) fs::permissions(path, fs::perms::owner_read | fs::perms::owner_write, failed);
  }
  return {};
}

fs::path program() {
  std::error_code failed;
  const fs::path self = fs::read_symlink("/proc/self/exe", failed);
  for (const fs::path& candidate :
       {self.parent_path() / "jembatand", self.parent_path() / "../sbin/jembatand"}) {
    if (fs::exists(candidate, failed)) return candidate.lexically_normal();
  }
  return "jembatand";
}

/// A process of the lab: its number is kept in a file, and its command line shows that it is still ours.
struct Process {
  fs::path number_file;
  std::string mark;  ///< in its command line
};

Process process_of_node(const fs::path& node) {
  return {node / "process", (node / "node.toml").string()};
}

Process relay_process() {
  return {folder() / "stand-ins.process", folder().string()};
}

// Its number; 0: it does not run.
int running(const Process& process) {
  std::ifstream in(process.number_file);
  int number = 0;
  if (!(in >> number) || number <= 0 || ::kill(number, 0) != 0) return 0;
  std::ifstream command(fmt::format("/proc/{}/cmdline", number), std::ios::binary);
  const std::string line((std::istreambuf_iterator<char>(command)), {});
  return line.find(process.mark) == std::string::npos ? 0 : number;
}

std::string end_of_log(const fs::path& log) {
  const auto text = document::read_file(log);
  if (!text) return "";
  auto lines = split(trim(*text), '\n');
  std::string out;
  for (std::size_t i = lines.size() > 8 ? lines.size() - 8 : 0; i < lines.size(); ++i)
    out += fmt::format("\n  {}", lines[i]);
  return out;
}

// Starts a program in the background; what it says goes to a log.
Result<int> start(const std::vector<std::string>& words, const fs::path& log_file, const Process& process) {
  const std::string log = log_file.string();
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));  // NOLINT
  arguments.push_back(nullptr);
  const int child = ::fork();
  if (child < 0) return fail(Errc::io, fmt::format("fork: {}", std::strerror(errno)));
  if (child == 0) {
    ::setsid();
    const int in = ::open("/dev/null", O_RDONLY);
    const int out = ::open(log.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
    ::dup2(in, STDIN_FILENO);
    ::dup2(out, STDOUT_FILENO);
    ::dup2(out, STDERR_FILENO);
    ::execvp(arguments.front(), arguments.data());
    fmt::print(stderr, "{}: {}\n", words.front(), std::strerror(errno));
    ::_exit(127);
  }
  std::ofstream(process.number_file) << child << "\n";
  return child;
}

// A node writes its process number into its lock file when it is up.
bool is_up(const host::NodeSettings& settings, int process) {
  std::ifstream in(settings.data_folder / "lock");
  int written = 0;
  return (in >> written) && written == process;
}

Status start_and_wait(const fs::path& node) {
  document::Problems problems;
  const auto settings = host::read_node_file(node / "node.toml", problems);
  if (!settings) return fail(Errc::malformed, problems.text());
  const auto process = start({program().string(), "--node", (node / "node.toml").string()}, node / "log",
                             process_of_node(node));
  if (!process) return process.error();
  bool ended = false;
  const bool up = wait_for(kStartWithin, [&] {
    ended = ::waitpid(*process, nullptr, WNOHANG) == *process;
    return ended || is_up(*settings, *process);
  });
  if (up && !ended) return {};
  return fail(Errc::conflict, fmt::format("node {} did not start; the end of {}:{}", settings->name,
                                          (node / "log").string(), end_of_log(node / "log")));
}

// Ends one; false if it does not run.
Result<bool> stop(const Process& process, const std::string& called) {
  const int number = running(process);
  if (number == 0) return false;
  ::kill(number, SIGTERM);
  // A child of ours must be waited for, one of an earlier call is gone from /proc.
  const bool gone = wait_for(
      kStopWithin, [&] { return ::waitpid(number, nullptr, WNOHANG) == number || running(process) == 0; });
  if (!gone) return fail(Errc::busy, fmt::format("{} (process {}) does not stop", called, number));
  std::error_code ignored;
  fs::remove(process.number_file, ignored);
  return true;
}

using Faults = std::map<std::string, std::string>;  // by node

Faults faults_in(const char* file) {
  Faults out;
  const auto text = document::read_file((folder() / file).string());
  if (!text) return out;
  const auto body = nlohmann::json::parse(*text, nullptr, false);
  if (!body.is_object()) return out;
  for (const auto& [node, fault] : body.items())
    if (fault.is_string()) out[node] = fault.get<std::string>();
  return out;
}

// Written whole or not at all; returns when the stand-ins have taken it up.
Status write_faults(const Faults& faults) {
  const fs::path file = folder() / kFaultsFile;
  const fs::path next = folder() / "faults.next";
  std::ofstream(next, std::ios::trunc) << nlohmann::json(faults).dump() << "\n";
  std::error_code failed;
  fs::rename(next, file, failed);
  if (failed) return fail(Errc::io, fmt::format("file '{}': {}", file.string(), failed.message()));
  // Again and again, for it may not listen for the signal yet.
  const auto taken_up = [&] {
    if (const int relay = running(relay_process()); relay != 0) ::kill(relay, SIGHUP);
    return faults_in(kTakenUpFile) == faults;
  };
  if (wait_for(5s, taken_up)) return {};
  return fail(Errc::conflict, "the lab's stand-ins do not answer: jembatan lab up starts them");
}

Status start_relay() {
  const Process process = relay_process();
  if (running(process) != 0) return {};
  std::error_code failed;
  const std::string self = fs::read_symlink("/proc/self/exe", failed).string();
  fs::remove(folder() / kTakenUpFile, failed);
  if (!fs::exists(folder() / kFaultsFile)) std::ofstream(folder() / kFaultsFile) << "{}\n";
  const fs::path log = folder() / "stand-ins.log";
  const auto started = start({self, "lab", "stand-ins", folder().string()}, log, process);
  if (!started) return started.error();
  bool ended = false;
  const bool up = wait_for(kStartWithin, [&] {
    ended = ::waitpid(*started, nullptr, WNOHANG) == *started;
    return ended || fs::exists(folder() / kTakenUpFile);
  });
  if (up && !ended) return {};
  return fail(Errc::conflict, fmt::format("the lab's stand-ins did not start; the end of {}:{}", log.string(),
                                          end_of_log(log)));
}

std::string first_text(const std::vector<Endpoint>& endpoints) {
  return endpoints.empty() ? "none" : endpoints.front().text();
}

}  // namespace

fs::path folder() {
  if (const char* named = std::getenv("JEMBATAN_LAB")) return fs::absolute(named);
  if (const char* state = std::getenv("XDG_STATE_HOME")) return fs::path(state) / "jembatan" / "lab";
  const char* home = std::getenv("HOME");
  return fs::path(home == nullptr ? "/tmp" : home) / ".local" / "state" / "jembatan" / "lab";
}

std::vector<std::string> node_names() {
  return {"edge", "hub", "reef-1", "reef-2"};
}

Status up(const Wish& wish) {
  const fs::path root = folder();
  if (wish.fresh) {
    if (const auto stopped = down(); !stopped) return stopped.error();
    std::error_code failed;
    // Only what a lab has made is removed: the folder may be named by the environment.
    for (const std::string& name : node_names()) fs::remove_all(root / name, failed);
    if (failed) return fail(Errc::io, fmt::format("folder '{}': {}", root.string(), failed.message()));
  }
  if (!fs::exists(root / "edge" / "node.toml")) {
    if (const Status s = write_demo(root, wish.free_ports); !s) return s;
  }
  if (const Status s = start_relay(); !s) return s;
  if (const Status s = write_faults({}); !s) return s;
  std::vector<std::string> names = node_names();
  std::reverse(names.begin(), names.end());
  for (const std::string& name : names) {
    if (running(process_of_node(root / name)) != 0) continue;
    if (const Status s = start_and_wait(root / name); !s) return s;
  }
  return {};
}

Result<int> down() {
  int stopped = 0;
  for (const std::string& name : node_names()) {
    const auto was = stop(process_of_node(folder() / name), "node " + name);
    if (!was) return was.error();
    stopped += *was ? 1 : 0;
  }
  if (const auto was = stop(relay_process(), "the lab's stand-ins"); !was) return was.error();
  return stopped;
}

Endpoint in_front(const Endpoint& inner) {
  const std::string text = inner.address.text();
  if (!text.starts_with("127.0.") || !text.ends_with(".2")) return inner;
  return {*IpAddress::parse(text.substr(0, text.size() - 1) + "1"), inner.port};
}

void put_in_front(host::NodeSettings& settings) {
  for (auto* listens : {&settings.access, &settings.accounting})
    for (Endpoint& endpoint : *listens) endpoint = in_front(endpoint);
}

Status set_fault(const std::string& node, const std::string& what) {
  const auto names = node_names();
  if (std::find(names.begin(), names.end(), node) == names.end())
    return fail(Errc::not_found, fmt::format("node '{}'; allowed: {}", escaped(node), join(names, ", ")));
  if (running(relay_process()) == 0) return fail(Errc::conflict, "the lab is not up: jembatan lab up");
  const fs::path at = folder() / node;
  const bool off = what == "off";
  const bool restart = what == "restart";
  if (!off && !restart) {
    const auto parsed = parse_fault(what);
    if (!parsed) return fail(Errc::malformed, parsed.error().text + ", off, restart");
  }
  if (off || restart) {
    if (const auto stopped = stop(process_of_node(at), "node " + node); !stopped) return stopped.error();
  }
  if (!off && running(process_of_node(at)) == 0) {
    if (const Status started = start_and_wait(at); !started) return started;
  }
  Faults faults = faults_in(kFaultsFile);
  faults.erase(node);
  if (!restart && what != "none") faults[node] = off ? what : text_of(*parse_fault(what));
  return write_faults(faults);
}

std::vector<NodeState> status() {
  std::vector<NodeState> out;
  const Faults faults = faults_in(kFaultsFile);
  for (const std::string& name : node_names()) {
    NodeState state;
    state.name = name;
    state.folder = folder() / name;
    state.process = running(process_of_node(state.folder));
    if (const auto fault = faults.find(name); fault != faults.end()) state.fault = fault->second;
    document::Problems ignored;
    if (auto settings = host::read_node_file(state.folder / "node.toml", ignored)) {
      put_in_front(*settings);
      state.access = first_text(settings->access);
      state.accounting = first_text(settings->accounting);
      state.management = settings->management.text();
    }
    out.push_back(std::move(state));
  }
  return out;
}

}  // namespace jembatan::lab
