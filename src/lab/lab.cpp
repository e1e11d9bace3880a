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
#include <regex>
#include <thread>

#include "base/embedded.h"
#include "base/text.h"
#include "document/parse.h"
#include "host/node_file.h"

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

Status write_demo(const fs::path& root, bool free_ports) {
  Ports ports;
  for (const EmbeddedFile& file : demo_world()) {
    const fs::path path = root / file.name;
    std::error_code failed;
    fs::create_directories(path.parent_path(), failed);
    std::ofstream out(path, std::ios::binary | std::ios::trunc);
    out << (free_ports ? ports.replaced(file.text) : std::string(file.text));
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

// The process of a node, if it is running: its number is kept in a file, and it must still be ours.
int process_of(const fs::path& node) {
  std::ifstream in(node / "process");
  int process = 0;
  if (!(in >> process) || process <= 0 || ::kill(process, 0) != 0) return 0;
  std::ifstream command(fmt::format("/proc/{}/cmdline", process), std::ios::binary);
  const std::string line((std::istreambuf_iterator<char>(command)), {});
  return line.find((node / "node.toml").string()) == std::string::npos ? 0 : process;
}

std::string end_of_log(const fs::path& node) {
  const auto text = document::read_file(node / "log");
  if (!text) return "";
  auto lines = split(trim(*text), '\n');
  std::string out;
  for (std::size_t i = lines.size() > 8 ? lines.size() - 8 : 0; i < lines.size(); ++i)
    out += fmt::format("\n  {}", lines[i]);
  return out;
}

Result<int> start(const fs::path& node) {
  const std::string binary = program().string();
  const std::string file = (node / "node.toml").string();
  const std::string log = (node / "log").string();
  const int child = ::fork();
  if (child < 0) return fail(Errc::io, fmt::format("fork: {}", std::strerror(errno)));
  if (child == 0) {
    ::setsid();
    const int in = ::open("/dev/null", O_RDONLY);
    const int out = ::open(log.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
    ::dup2(in, STDIN_FILENO);
    ::dup2(out, STDOUT_FILENO);
    ::dup2(out, STDERR_FILENO);
    ::execlp(binary.c_str(), "jembatand", "--node", file.c_str(), nullptr);
    fmt::print(stderr, "{}: {}\n", binary, std::strerror(errno));
    ::_exit(127);
  }
  std::ofstream(node / "process") << child << "\n";
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
  const auto process = start(node);
  if (!process) return process.error();
  bool ended = false;
  const bool up = wait_for(kStartWithin, [&] {
    ended = ::waitpid(*process, nullptr, WNOHANG) == *process;
    return ended || is_up(*settings, *process);
  });
  if (up && !ended) return {};
  return fail(Errc::conflict, fmt::format("node {} did not start; the end of {}:{}", settings->name,
                                          (node / "log").string(), end_of_log(node)));
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
  std::vector<std::string> names = node_names();
  std::reverse(names.begin(), names.end());
  for (const std::string& name : names) {
    if (process_of(root / name) != 0) continue;
    if (const Status s = start_and_wait(root / name); !s) return s;
  }
  return {};
}

Result<int> down() {
  int stopped = 0;
  for (const std::string& name : node_names()) {
    const fs::path node = folder() / name;
    const int process = process_of(node);
    if (process == 0) continue;
    ::kill(process, SIGTERM);
    // A child of ours must be waited for, one of an earlier call is gone from /proc.
    const bool gone = wait_for(kStopWithin, [&] {
      return ::waitpid(process, nullptr, WNOHANG) == process || process_of(node) == 0;
    });
    if (!gone) return fail(Errc::busy, fmt::format("node {} (process {}) does not stop", name, process));
    std::error_code ignored;
    fs::remove(node / "process", ignored);
    ++stopped;
  }
  return stopped;
}

std::vector<NodeState> status() {
  std::vector<NodeState> out;
  for (const std::string& name : node_names()) {
    NodeState state;
    state.name = name;
    state.folder = folder() / name;
    state.process = process_of(state.folder);
    document::Problems ignored;
    if (const auto settings = host::read_node_file(state.folder / "node.toml", ignored)) {
      state.access = first_text(settings->access);
      state.accounting = first_text(settings->accounting);
      state.management = settings->management.text();
    }
    out.push_back(std::move(state));
  }
  return out;
}

}  // namespace jembatan::lab
