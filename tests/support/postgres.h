#pragma once
// A PostgreSQL of Debian's package, in a folder of its own, run as an unprivileged user.
#include <memory>

#include "support/process.h"

namespace jembatan::support {

class ScratchPostgres {
  class Empty {};

 public:
  explicit ScratchPostgres(Empty);  ///< without a cluster: for standby()
  /// Makes a cluster, owned by the role "keeper".
  ScratchPostgres();
  /// Starts it on a free port of 127.0.0.1.
  ///   access  lines of pg_hba.conf below that which lets keeper in
  void start(const std::string& access = "");
  void stop();
  /// A standby of it, which is started, follows it, and takes no writes.
  std::unique_ptr<ScratchPostgres> standby() const;
  /// The standby takes writes from now on.
  void promote() const;
  int port() const { return port_; }
  /// As keeper, over the socket in its folder.
  Finished as_keeper(const std::string& sql) const;
  /// As somebody else, over TCP.
  Finished as(const std::string& role, const std::string& password, const std::string& sql,
              const std::string& database = "postgres") const;
  std::string log() const { return read_file(folder_.path() / "log"); }

 private:
  std::vector<std::string> program(const std::string& name) const;
  std::vector<std::string> program(const std::string& name, const std::vector<std::string>& words) const;
  std::string cluster() const { return (folder_.path() / "cluster").string(); }
  void serve();
  TemporaryFolder folder_;
  int port_ = free_port();
  std::unique_ptr<Background> process_;
};

}  // namespace jembatan::support
