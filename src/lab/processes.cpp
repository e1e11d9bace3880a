#include "lab/processes.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/wait.h>
#include <unistd.h>

#include <array>
#include <cerrno>
#include <cstring>
#include <fstream>

#include "base/text.h"
#include "document/parse.h"

namespace jembatan::lab {

namespace fs = std::filesystem;

namespace {

constexpr std::chrono::seconds kStartWithin{20};
constexpr std::chrono::seconds kStopWithin{15};

std::string end_of_log(const fs::path& log) {
  const auto text = document::read_file(log);
  if (!text) return "";
  auto lines = split(trim(*text), '\n');
  std::string out;
  for (std::size_t i = lines.size() > 8 ? lines.size() - 8 : 0; i < lines.size(); ++i)
    out += fmt::format("\n  {}", lines[i]);
  return out;
}

}  // namespace

int running(const Process& process) {
  std::ifstream in(process.number_file);
  int number = 0;
  if (!(in >> number) || number <= 0 || ::kill(number, 0) != 0) return 0;
  std::ifstream command(fmt::format("/proc/{}/cmdline", number), std::ios::binary);
  const std::string line((std::istreambuf_iterator<char>(command)), {});
  return line.find(process.mark) == std::string::npos ? 0 : number;
}

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

Status run(const std::vector<std::string>& words) {
  std::vector<char*> arguments;
  for (const std::string& word : words) arguments.push_back(const_cast<char*>(word.c_str()));  // NOLINT
  arguments.push_back(nullptr);
  std::array<int, 2> pipe{};
  if (::pipe2(pipe.data(), O_CLOEXEC) != 0)
    return fail(Errc::io, fmt::format("pipe: {}", std::strerror(errno)));
  const int child = ::fork();
  if (child == 0) {
    ::dup2(pipe[1], STDOUT_FILENO);
    ::dup2(pipe[1], STDERR_FILENO);
    ::execvp(arguments.front(), arguments.data());
    fmt::print(stderr, "{}: {}\n", words.front(), std::strerror(errno));
    ::_exit(127);
  }
  ::close(pipe[1]);
  std::string said;
  std::array<char, 512> piece{};
  for (ssize_t size = 0; (size = ::read(pipe[0], piece.data(), piece.size())) > 0;)
    said.append(piece.data(), static_cast<std::size_t>(size));
  ::close(pipe[0]);
  int ended = 0;
  if (child < 0 || ::waitpid(child, &ended, 0) != child || ended != 0)
    return fail(Errc::io, fmt::format("'{}' failed: {}", join(words, " "), trim(said)));
  return {};
}

Status wait_until_up(int number, const std::string& called, const fs::path& log,
                     const std::function<bool()>& up) {
  bool ended = false;
  const bool came = wait_for(kStartWithin, [&] {
    ended = ::waitpid(number, nullptr, WNOHANG) == number;
    return ended || up();
  });
  if (came && !ended) return {};
  return fail(Errc::conflict,
              fmt::format("{} did not start; the end of {}:{}", called, log.string(), end_of_log(log)));
}

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

}  // namespace jembatan::lab
