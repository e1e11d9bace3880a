#include "support/postgres.h"

#include <pwd.h>
#include <unistd.h>

#include <csignal>
#include <stdexcept>

namespace jembatan::support {
namespace {

constexpr const char* kPostgresPrograms = "/usr/lib/postgresql/15/bin/";

// PostgreSQL refuses to run as root: then it is the user of Debian's package.
const passwd* other_user() {
  return ::getuid() == 0 ? ::getpwnam("postgres") : nullptr;
}

}  // namespace

std::vector<std::string> ScratchPostgres::program(const std::string& name) const {
  std::vector<std::string> out;
  if (const passwd* user = other_user())
    out = {"setpriv",       "--reuid", std::to_string(user->pw_uid), "--regid", std::to_string(user->pw_gid),
           "--clear-groups"};
  out.push_back(kPostgresPrograms + name);
  return out;
}

std::vector<std::string> ScratchPostgres::program(const std::string& name,
                                                  const std::vector<std::string>& words) const {
  std::vector<std::string> out = program(name);
  out.insert(out.end(), words.begin(), words.end());
  return out;
}

ScratchPostgres::ScratchPostgres(Empty) {
  std::filesystem::permissions(folder_.path(), std::filesystem::perms::owner_all);
  if (const passwd* user = other_user())
    if (::chown(folder_.path().c_str(), user->pw_uid, user->pw_gid) != 0) throw std::runtime_error("chown");
}

ScratchPostgres::ScratchPostgres() : ScratchPostgres(Empty()) {
  const Finished made = run(program("initdb", {"--no-sync", "-A", "trust", "-U", "keeper", "-D", cluster()}));
  if (made.exit_code != 0) throw std::runtime_error("initdb: " + made.error);
}

void ScratchPostgres::start(const std::string& access) {
  write_file(folder_.path() / "cluster" / "pg_hba.conf",
             "local all keeper trust\nlocal replication keeper trust\n" + access);
  serve();
}

void ScratchPostgres::serve() {
  process_ = std::make_unique<Background>(
      program("postgres", {"-D", cluster(), "-h", "127.0.0.1", "-p", std::to_string(port_), "-k",
                           folder_.path().string(), "-F"}),
      folder_.path() / "log");
  if (!eventually([&] { return as_keeper("SELECT 1").exit_code == 0; }))
    throw std::runtime_error("PostgreSQL does not come up: " + log());
}

std::unique_ptr<ScratchPostgres> ScratchPostgres::standby() const {
  auto out = std::make_unique<ScratchPostgres>(Empty());
  const Finished copied =
      run(out->program("pg_basebackup", {"-h", folder_.path().string(), "-p", std::to_string(port_), "-U",
                                         "keeper", "-D", out->cluster(), "-R", "-c", "fast", "--no-sync"}));
  if (copied.exit_code != 0) throw std::runtime_error("pg_basebackup: " + copied.error);
  out->serve();
  return out;
}

void ScratchPostgres::promote() const {
  if (run(program("pg_ctl", {"promote", "-D", cluster()})).exit_code != 0) throw std::runtime_error("pg_ctl");
}

void ScratchPostgres::stop() {
  if (!process_) return;
  process_->signal(SIGINT);
  (void)process_->wait();
  process_.reset();
}

Finished ScratchPostgres::as_keeper(const std::string& sql) const {
  return run({"psql", "-h", folder_.path().string(), "-p", std::to_string(port_), "-U", "keeper", "-d",
              "postgres", "-At", "-c", sql});
}

Finished ScratchPostgres::as(const std::string& role, const std::string& password, const std::string& sql,
                             const std::string& database) const {
  return run(
      {"psql", "-h", "127.0.0.1", "-p", std::to_string(port_), "-U", role, "-d", database, "-At", "-c", sql},
      {"PGPASSWORD=" + password});
}

}  // namespace jembatan::support
