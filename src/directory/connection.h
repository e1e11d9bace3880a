#pragma once
// One connection to one server of a directory (LDAP, RFC 4511), by libldap.
#include <map>
#include <memory>
#include <string>
#include <vector>

#include "base/octets.h"
#include "base/result.h"
#include "decide/person.h"
#include "plan/directory.h"

struct ldap;  // of <ldap.h>

namespace jembatan::directory {
struct Limit;
}

namespace jembatan::directory {

/// An entry that was found.
struct Entry {
  std::string name;                                        ///< distinguished name (RFC 4514)
  std::map<std::string, std::vector<std::string>> values;  ///< by attribute, in small letters

  /// The first value of an attribute; null if it has none.
  const std::string* first(std::string_view attribute) const;
};

/// What is searched for.
struct Query {
  std::string base;
  plan::Directory::Scope scope = plan::Directory::Scope::subtree;
  std::string filter;                   ///< RFC 4515
  std::vector<std::string> attributes;  ///< that are wanted
  int most = 2;                         ///< entries
};

/// What a server said of a name and a password.
struct Bound {
  bool right = false;
  decide::Person::Account account = decide::Person::Account::usable;
  bool wrong = false;  ///< it is the wrong one, and nothing else stands against it
  std::string text;    ///< its own words, if it refuses
};

/// Calls block, each for no longer than `answer_within`. One thread at a time.
class Connection {
 public:
  /// Connects, with TLS unless the access says otherwise, and looks at the server's certificate.
  ///   errors  Errc::unreachable: why not
  static Result<std::unique_ptr<Connection>> open(const plan::DirectoryAccess& access,
                                                  const plan::DirectoryAccess::Server& server);
  ~Connection();
  Connection(const Connection&) = delete;
  Connection& operator=(const Connection&) = delete;

  /// Whether somebody listens there at all; nothing is said to him.
  ///   errors  Errc::unreachable
  static Status reach(const plan::DirectoryAccess& access, const plan::DirectoryAccess::Server& server);
  /// The server's certificate (DER), whether it can be trusted or not; empty if it has none.
  static Octets certificate_of(const plan::DirectoryAccess& access,
                               const plan::DirectoryAccess::Server& server);
  /// Of this connection; empty if it is plain.
  Octets certificate() const;

  /// Proves a name by its password (RFC 4513 §5.1.3). An empty password proves nothing (§5.1.2): nobody is
  /// asked.
  ///   errors  Errc::unreachable: the connection is lost; Errc::busy: no answer in time
  Result<Bound> bind(const std::string& name, OctetView password);
  ///   errors  Errc::unreachable, Errc::busy: as above; Errc::not_found: there is no such base;
  ///           Errc::not_allowed; Errc::malformed
  Result<std::vector<Entry>> search(const Query& query);

 private:
  struct Closing {
    void operator()(ldap* handle) const;
  };
  using Handle = std::unique_ptr<ldap, Closing>;
  ///   certificate  LDAP_OPT_X_TLS_DEMAND, or LDAP_OPT_X_TLS_ALLOW to look at one that cannot be trusted
  static Result<std::unique_ptr<Connection>> open(const plan::DirectoryAccess& access,
                                                  const plan::DirectoryAccess::Server& server,
                                                  int certificate);
  Connection(Handle handle, Duration answer_within);
  /// What is done next has `answer_within`.
  void begin();
  Error error_of(int code) const;
  Result<Bound> bound(int message);

  std::unique_ptr<Limit> limit_;  // outlives the handle
  Handle handle_;
  Duration answer_within_;
};

}  // namespace jembatan::directory
