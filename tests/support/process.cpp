#include "support/process.h"

#include <arpa/inet.h>
#include <fcntl.h>
#include <poll.h>
#include <signal.h>
#include <sys/socket.h>
#include <sys/wait.h>
#include <unistd.h>

#include <cstdlib>
#include <fstream>
#include <random>
#include <set>
#include <sstream>
#include <stdexcept>
#include <thread>

namespace jembatan::support {
namespace {

using namespace std::chrono_literals;
namespace fs = std::filesystem;

[[noreturn]] void become(const std::vector<std::string>& command,
                         const std::vector<std::string>& environment) {
  for (const std::string& entry : environment) ::putenv(const_cast<char*>(entry.c_str()));
  std::vector<char*> arguments;
  for (const std::string& word : command) arguments.push_back(const_cast<char*>(word.c_str()));
  arguments.push_back(nullptr);
  ::execvp(arguments[0], arguments.data());
  ::_exit(127);
}

sockaddr_in address_of(const std::string& address, int port) {
  sockaddr_in out{};
  out.sin_family = AF_INET;
  out.sin_port = htons(static_cast<std::uint16_t>(port));
  inet_pton(AF_INET, address.c_str(), &out.sin_addr);
  return out;
}

int exit_code_of(int status) {
  return WIFEXITED(status) ? WEXITSTATUS(status) : -WTERMSIG(status);
}

}  // namespace

TemporaryFolder::TemporaryFolder() {
  std::string name = (fs::temp_directory_path() / "jembatan-test-XXXXXX").string();
  if (mkdtemp(name.data()) == nullptr) throw std::runtime_error("mkdtemp");
  path_ = name;
}

TemporaryFolder::~TemporaryFolder() {
  std::error_code ignored;
  fs::remove_all(path_, ignored);
}

void write_file(const fs::path& path, const std::string& text) {
  fs::create_directories(path.parent_path());
  std::ofstream(path, std::ios::binary | std::ios::trunc) << text;
}

std::string read_file(const fs::path& path) {
  std::ifstream in(path, std::ios::binary);
  return {std::istreambuf_iterator<char>(in), {}};
}

namespace {

// Tests run beside each other: a port that one has chosen is its own until its process ends, although it is
// not bound yet. Each is one octet of a file that all of them lock.
bool claim(int port) {
  static const int file =
      ::open((fs::temp_directory_path() / "jembatan-test-ports").c_str(), O_RDWR | O_CREAT | O_CLOEXEC, 0666);
  struct flock octet {};
  octet.l_type = F_WRLCK;
  octet.l_whence = SEEK_SET;
  octet.l_start = port;
  octet.l_len = 1;
  return ::fcntl(file, F_SETLK, &octet) == 0;
}

}  // namespace

// Below those that the system gives out by itself: nobody else gets it between here and its use.
int free_port() {
  static std::set<int> given;
  static std::mt19937 chance{std::random_device{}()};
  std::uniform_int_distribution<int> ports(16384, 32767);
  for (int tries = 0; tries < 1000; ++tries) {
    const int port = ports(chance);
    if (given.contains(port) || !claim(port)) continue;
    const int udp = ::socket(AF_INET, SOCK_DGRAM, 0);
    const int tcp = ::socket(AF_INET, SOCK_STREAM, 0);
    sockaddr_in address = address_of("127.0.0.1", port);
    auto* generic = reinterpret_cast<sockaddr*>(&address);
    const bool free =
        ::bind(udp, generic, sizeof(address)) == 0 && ::bind(tcp, generic, sizeof(address)) == 0;
    ::close(udp);
    ::close(tcp);
    if (free && given.insert(port).second) return port;
  }
  throw std::runtime_error("no free port");
}

bool eventually(const std::function<bool()>& condition, std::chrono::milliseconds within) {
  const auto until = std::chrono::steady_clock::now() + within;
  while (!condition()) {
    if (std::chrono::steady_clock::now() > until) return false;
    std::this_thread::sleep_for(5ms);
  }
  return true;
}

std::string faketime_library() {
  for (const auto& folder : std::filesystem::directory_iterator("/usr/lib"))
    if (const auto found = folder.path() / "faketime" / "libfaketimeMT.so.1"; std::filesystem::exists(found))
      return found;
  throw std::runtime_error("the package libfaketime is missing");
}

Finished run(const std::vector<std::string>& command, const std::vector<std::string>& environment) {
  const TemporaryFolder folder;
  const fs::path out = folder.path() / "out";
  const fs::path error = folder.path() / "error";
  const int child = ::fork();
  if (child == 0) {
    ::dup2(::open("/dev/null", O_RDONLY), STDIN_FILENO);
    ::dup2(::open(out.c_str(), O_WRONLY | O_CREAT, 0600), STDOUT_FILENO);
    ::dup2(::open(error.c_str(), O_WRONLY | O_CREAT, 0600), STDERR_FILENO);
    become(command, environment);
  }
  int status = 0;
  ::waitpid(child, &status, 0);
  return {exit_code_of(status), read_file(out), read_file(error)};
}

Background::Background(const std::vector<std::string>& command, const fs::path& log,
                       const std::vector<std::string>& environment) {
  process_ = ::fork();
  if (process_ == 0) {
    const int out = ::open(log.c_str(), O_WRONLY | O_CREAT | O_APPEND, 0600);
    ::dup2(::open("/dev/null", O_RDONLY), STDIN_FILENO);
    ::dup2(out, STDOUT_FILENO);
    ::dup2(out, STDERR_FILENO);
    become(command, environment);
  }
}

Background::~Background() {
  if (!running()) return;
  signal(SIGKILL);
  (void)wait(20s);
}

void Background::signal(int number) const {
  ::kill(process_, number);
}

bool Background::running() {
  int status = 0;
  if (!ended_ && ::waitpid(process_, &status, WNOHANG) == process_) ended_ = exit_code_of(status);
  return !ended_;
}

std::optional<int> Background::wait(std::chrono::milliseconds within) {
  eventually([this] { return !running(); }, within);
  return ended_;
}

UdpPeer::UdpPeer(const std::string& address, int port)
    : fd_(::socket(AF_INET, SOCK_DGRAM | SOCK_CLOEXEC, 0)) {
  sockaddr_in local = address_of(address, port);
  socklen_t length = sizeof(local);
  if (::bind(fd_, reinterpret_cast<sockaddr*>(&local), length) != 0) throw std::runtime_error("bind");
  ::getsockname(fd_, reinterpret_cast<sockaddr*>(&local), &length);
  port_ = ntohs(local.sin_port);
}

UdpPeer::~UdpPeer() {
  ::close(fd_);
}

void UdpPeer::send(const std::string& address, int port, const std::vector<unsigned char>& datagram) const {
  const sockaddr_in to = address_of(address, port);
  ::sendto(fd_, datagram.data(), datagram.size(), 0, reinterpret_cast<const sockaddr*>(&to), sizeof(to));
}

std::vector<unsigned char> UdpPeer::receive(std::chrono::milliseconds within) const {
  pollfd wait{fd_, POLLIN, 0};
  if (poll(&wait, 1, static_cast<int>(within.count())) <= 0) return {};
  std::vector<unsigned char> out(65536);
  sockaddr_in from{};
  socklen_t length = sizeof(from);
  const ssize_t size =
      ::recvfrom(fd_, out.data(), out.size(), 0, reinterpret_cast<sockaddr*>(&from), &length);
  from_ = ntohs(from.sin_port);
  out.resize(size > 0 ? static_cast<std::size_t>(size) : 0);
  return out;
}

TcpPeer::TcpPeer(int port) : fd_(::socket(AF_INET, SOCK_STREAM | SOCK_CLOEXEC, 0)) {
  sockaddr_in address{};
  address.sin_family = AF_INET;
  address.sin_port = htons(static_cast<std::uint16_t>(port));
  address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
  if (::connect(fd_, reinterpret_cast<const sockaddr*>(&address), sizeof(address)) == 0) return;
  ::close(fd_);
  fd_ = -1;
}

TcpPeer::~TcpPeer() {
  if (fd_ >= 0) ::close(fd_);
}

bool TcpPeer::send(std::string_view octets) const {
  while (!octets.empty()) {
    const ssize_t sent = ::send(fd_, octets.data(), octets.size(), MSG_NOSIGNAL);
    if (sent <= 0) return false;
    octets.remove_prefix(static_cast<std::size_t>(sent));
  }
  return true;
}

std::string TcpPeer::receive_some(std::chrono::milliseconds within) const {
  pollfd wanted{fd_, POLLIN, 0};
  if (::poll(&wanted, 1, static_cast<int>(within.count())) <= 0) return "";
  std::string out(65536, '\0');
  const ssize_t got = ::recv(fd_, out.data(), out.size(), 0);
  out.resize(got > 0 ? static_cast<std::size_t>(got) : 0);
  return out;
}

std::string TcpPeer::receive(std::chrono::milliseconds within) const {
  const auto until = std::chrono::steady_clock::now() + within;
  std::string out;
  while (true) {
    const auto left =
        std::chrono::duration_cast<std::chrono::milliseconds>(until - std::chrono::steady_clock::now());
    const std::string more = left.count() > 0 ? receive_some(left) : "";
    if (more.empty()) return out;
    out += more;
  }
}

bool TcpPeer::closes(std::chrono::milliseconds within) const {
  const auto until = std::chrono::steady_clock::now() + within;
  while (std::chrono::steady_clock::now() < until) {
    pollfd wanted{fd_, POLLIN, 0};
    if (::poll(&wanted, 1, 50) <= 0) continue;
    char octets[4096];
    if (::recv(fd_, octets, sizeof(octets), 0) <= 0) return true;
  }
  return false;
}

}  // namespace jembatan::support
