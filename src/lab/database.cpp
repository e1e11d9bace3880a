#include "lab/database.h"

#include <fmt/format.h>
#include <pwd.h>
#include <unistd.h>

#include <algorithm>
#include <fstream>
#include <vector>

#include "lab/lab.h"
#include "lab/processes.h"

namespace jembatan::lab {
namespace {

namespace fs = std::filesystem;

constexpr const char* kFile = "database";  // in the lab's folder: where the database is
constexpr const char* kRole = "keeper";
constexpr const char* kUser = "postgres";  // PostgreSQL refuses to be run by root

fs::path place() {
  std::ifstream in(folder() / kFile);
  std::string out;
  std::getline(in, out);
  return out;
}

Process database_process() {
  return {folder() / "database.process", place().string()};
}

// The newest that is installed.
Result<fs::path> programs() {
  std::error_code failed;
  std::vector<std::pair<int, fs::path>> found;
  for (const auto& version : fs::directory_iterator("/usr/lib/postgresql", failed)) {
    const fs::path programs = version.path() / "bin";
    if (fs::exists(programs / "initdb", failed))
      found.emplace_back(std::atoi(version.path().filename().c_str()), programs);
  }
  if (found.empty())
    return fail(Errc::not_found, "PostgreSQL is not on this machine: apt-get install postgresql");
  return std::max_element(found.begin(), found.end())->second;
}

std::vector<std::string> as_user(std::vector<std::string> words) {
  if (::getuid() == 0)
    words.insert(words.begin(), {"setpriv", "--reuid", kUser, "--regid", kUser, "--clear-groups"});
  return words;
}

Result<fs::path> new_folder() {
  std::string name = "/tmp/jembatan-database-XXXXXX";
  if (::mkdtemp(name.data()) == nullptr) return fail(Errc::io, "no folder can be made below /tmp");
  const passwd* user = ::getuid() == 0 ? ::getpwnam(kUser) : nullptr;
  if (user != nullptr && ::chown(name.c_str(), user->pw_uid, user->pw_gid) != 0)
    return fail(Errc::io, fmt::format("'{}' cannot be given to the user {}", name, kUser));
  return fs::path(name);
}

}  // namespace

bool has_database() {
  std::error_code failed;
  return fs::exists(folder() / kFile, failed);
}

std::string database_of_lab() {
  return fmt::format("host={} dbname=postgres user={}", place().string(), kRole);
}

Status make_database() {
  const auto bin = programs();
  if (!bin) return bin.error();
  const auto at = new_folder();
  if (!at) return at.error();
  const Status made = run(as_user({(*bin / "initdb").string(), "--no-sync", "-A", "trust", "-E", "UTF8",
                                   "--locale=C", "-U", kRole, "-D", (*at / "cluster").string()}));
  if (!made) return made.error().at("initdb");
  std::error_code failed;
  fs::create_directories(folder(), failed);
  std::ofstream out(folder() / kFile, std::ios::trunc);
  out << at->string() << "\n";
  out.close();
  return out ? Status{} : Status{fail(Errc::io, "the lab's folder cannot be written")};
}

Status start_database() {
  if (running(database_process()) != 0) return {};
  const auto bin = programs();
  if (!bin) return bin.error();
  const fs::path at = place();
  const fs::path log = folder() / "database.log";
  const auto started = start(as_user({(*bin / "postgres").string(), "-D", (at / "cluster").string(), "-k",
                                      at.string(), "-c", "listen_addresses="}),
                             log, database_process());
  if (!started) return started.error();
  return wait_until_up(*started, "the lab's database", log, [&] {
    return bool(run(as_user({(*bin / "pg_isready").string(), "-q", "-h", at.string(), "-U", kRole})));
  });
}

Status stop_database() {
  if (!has_database()) return {};
  const auto was = stop(database_process(), "the lab's database");
  return was ? Status{} : Status{was.error()};
}

Status remove_database() {
  if (!has_database()) return {};
  if (const Status stopped = stop_database(); !stopped) return stopped;
  std::error_code failed;
  const fs::path at = place();
  if (at.string().starts_with("/tmp/jembatan-database-")) fs::remove_all(at, failed);
  fs::remove(folder() / kFile, failed);
  return failed ? Status{fail(Errc::io, failed.message())} : Status{};
}

}  // namespace jembatan::lab
