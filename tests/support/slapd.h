#pragma once
// OpenLDAP's server of Debian's package, in a folder of its own, with the people of the lab's directory.
#include <memory>

#include "support/process.h"

namespace jembatan::support {

class ScratchDirectory {
 public:
  ///   more  lines for its configuration, in front of the database
  explicit ScratchDirectory(const std::string& more = "");
  /// Starts it on its port of 127.0.0.1, by ldap:// and (with a certificate) by ldaps:// on the next one.
  void start();
  void stop();
  /// Makes a certificate for these names ("DNS:ldap-1.reef.example", "IP:127.0.0.1"), signed by an authority
  /// of its own; to be called before start().
  enum class Valid : std::uint8_t { now, once };
  void make_certificate(const std::string& names, Valid valid = Valid::now);
  std::string authority() const { return (folder_.path() / "authority.pem").string(); }
  /// Changes entries by LDIF change records; it runs or not.
  void change(const std::string& ldif) const;

  int port() const { return port_; }
  int tls_port() const { return tls_port_; }
  std::string url() const { return "ldap://127.0.0.1:" + std::to_string(port_); }
  /// A [[directory]] "crew" of a plan that asks these servers in the clear.
  ///   more  lines for it
  static std::string plan(const std::string& servers, const std::string& more = "encryption = \"none\"");
  std::string plan() const { return plan("\"" + url() + "\""); }

 private:
  std::string file(const std::string& name) const { return (folder_.path() / name).string(); }
  TemporaryFolder folder_;
  int port_ = free_port();
  int tls_port_ = free_port();
  bool has_certificate_ = false;
  std::string more_;
  std::unique_ptr<Background> process_;
};

}  // namespace jembatan::support
