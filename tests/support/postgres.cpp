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

ScratchPostgres::ScratchPostgres() {
  std::filesystem::permissions(folder_.path(), std::filesystem::perms::owner_all);
  if (const passwd* user = other_user())
    if (::chown(folder_.path().c_str(), user->pw_uid, user->pw_gid) != 0) throw std::runtime_error("chown");
  auto command = program("initdb");
  for (const std::string& word :
       {std::string("--no-sync"), std::string("-A"), std::string("trust"), std::string("-U"),
        std::string("keeper"), std::string("-D"), (folder_.path() / "cluster").string()})
    command.push_back(word);
  const Finished made = run(command);
  if (made.exit_code != 0) throw std::runtime_error("initdb: " + made.error);
}

void ScratchPostgres::start(const std::string& access) {
  const auto cluster = folder_.path() / "cluster";
  write_file(cluster / "pg_hba.conf", "local all keeper trust\n" + access);
  auto command = program("postgres");
  for (const std::string& word :
       {std::string("-D"), cluster.string(), std::string("-h"), std::string("127.0.0.1"), std::string("-p"),
        std::to_string(port_), std::string("-k"), folder_.path().string(), std::string("-F")})
    command.push_back(word);
  process_ = std::make_unique<Background>(command, folder_.path() / "log");
  if (!eventually([&] { return as_keeper("SELECT 1").exit_code == 0; }))
    throw std::runtime_error("PostgreSQL does not come up: " + log());
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
