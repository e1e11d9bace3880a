#include "lab/people.h"

#include <arpa/inet.h>
#include <fmt/format.h>
#include <signal.h>
#include <sys/socket.h>
#include <unistd.h>

#include <fstream>

#include "base/ip.h"
#include "base/text.h"
#include "host/socket_address.h"
#include "lab/lab.h"
#include "lab/processes.h"

namespace jembatan::lab {
namespace {

namespace fs = std::filesystem;

constexpr const char* kSlapd = "/usr/sbin/slapd";
constexpr const char* kSlapadd = "/usr/sbin/slapadd";

fs::path people_folder() {
  return folder() / "directory";
}

Process directory_process() {
  return {people_folder() / "process", (people_folder() / "slapd.conf").string()};
}

std::string people_url() {
  std::ifstream in(people_folder() / "url");
  std::string out;
  std::getline(in, out);
  return out;
}

bool somebody_listens(const Endpoint& at) {
  const int socket = ::socket(AF_INET, SOCK_STREAM, 0);
  host::SocketAddress address(at);
  const bool out = ::connect(socket, address.generic(), address.length) == 0;
  ::close(socket);
  return out;
}

}  // namespace

bool has_directory() {
  std::error_code failed;
  return fs::exists(people_folder() / "slapd.conf", failed);
}

Status make_directory() {
  std::error_code failed;
  if (!fs::exists(kSlapd, failed))
    return fail(Errc::not_found, "OpenLDAP's server is not on this machine: apt-get install slapd");
  fs::create_directories(people_folder() / "data", failed);
  const Status filled = run({kSlapadd, "-q", "-f", (people_folder() / "slapd.conf").string(), "-l",
                             (people_folder() / "people.ldif").string()});
  return filled ? Status{} : Status{filled.error().at("slapadd")};
}

Status start_directory() {
  if (running(directory_process()) != 0) return {};
  const fs::path log = people_folder() / "log";
  const auto started =
      start({kSlapd, "-d", "0", "-f", (people_folder() / "slapd.conf").string(), "-h", people_url()}, log,
            directory_process());
  if (!started) return started.error();
  const auto at = Endpoint::parse(people_url().substr(sizeof("ldap://") - 1), 389);
  if (!at) return at.error();
  return wait_until_up(*started, "the lab's directory", log, [&] { return somebody_listens(*at); });
}

Status set_directory_fault(const std::string& what) {
  if (what == "off") return stop_directory();
  if (what != "silent" && what != "none")
    return fail(Errc::malformed,
                fmt::format("'{}' of the directory; allowed: none, silent, off", escaped(what)));
  if (const Status started = start_directory(); !started) return started;
  ::kill(running(directory_process()), what == "silent" ? SIGSTOP : SIGCONT);
  return {};
}

// One that is held still would not see that it is to end.
Status stop_directory() {
  if (!has_directory()) return {};
  if (const int number = running(directory_process()); number != 0) ::kill(number, SIGCONT);
  const auto was = stop(directory_process(), "the lab's directory");
  return was ? Status{} : Status{was.error()};
}

Status remove_directory() {
  if (!has_directory()) return {};
  if (const Status stopped = stop_directory(); !stopped) return stopped;
  std::error_code failed;
  fs::remove_all(people_folder(), failed);
  return failed ? Status{fail(Errc::io, failed.message())} : Status{};
}

}  // namespace jembatan::lab
