#pragma once
// A directory of people (LDAP, RFC 4511), as an operator describes it.
#include "plan/model.h"

namespace jembatan::plan {

/// How to reach a directory, and as whom: what has changed here needs new connections.
struct DirectoryAccess {
  /// An LDAP URL (RFC 4516) of no more than scheme, host and port.
  struct Server {
    std::string url;   ///< "ldaps://ldap-1.reef.example:636"
    std::string host;  ///< name or address, without brackets
    std::uint16_t port = 389;
    bool is_tls = false;  ///< from the first octet on
    bool operator==(const Server&) const = default;
  };
  std::vector<Server> servers;  ///< in the order of asking
  bool plain = false;           ///< ldap:// without StartTLS (RFC 4511 §4.14)
  std::string authorities;      ///< file with the certificates that are trusted; empty: the system's
  std::string account;          ///< distinguished name (RFC 4514) that searches; empty: nobody in particular
  Secret secret;                ///< its password
  Duration answer_within{3000};
  bool operator==(const DirectoryAccess&) const = default;
};

/// Where people are, whose passwords a directory proves.
struct Directory {
  enum class Scope : std::uint8_t { base, one, subtree };  ///< RFC 4511 §4.5.1.2
  enum class Passwords : std::uint8_t { bind, nt, clear };

  std::string name;
  DirectoryAccess access;
  std::string base;
  Scope scope = Scope::subtree;
  std::string filter;  ///< with {user}, {realm}, {name}
  Passwords passwords = Passwords::bind;
  std::string kept_password;            ///< the attribute that has it, unless it is bind
  std::string member_of;                ///< attribute of a person with the names of groups; may be empty
  std::string group_base;               ///< where groups are searched for; empty: they are not
  std::string group_filter;             ///< with {dn}, {user}, {realm}, {name}
  std::string group_name;               ///< attribute of a group that has its name
  unsigned nested = 0;                  ///< how many levels of groups in groups
  std::vector<std::string> attributes;  ///< that conditions and replies may look at
  Assignments reply;                    ///< of the Access-Accept
  std::size_t connections = 4;
  Duration keep{300000};       ///< how long it is remembered who somebody is
  bool silent_refuses = true;  ///< when no server answers: Access-Reject; otherwise no answer
};

/// What a directory's passwords prove, as passwords that are kept like that do.
identity::StoredPassword::Form form_of(Directory::Passwords passwords);

/// Puts in what is left out.
void complete(Directory& directory);
/// What does not go together, each with what is allowed: "has an account without a secret", "both, or neither
/// of them".
///   has_secret  the plan gives one, which may not be known here
std::vector<std::pair<std::string, std::string>> mistakes_of(const Directory& directory, bool has_secret);

/// The parts of a URL.
///   errors  Errc::malformed, with what is allowed
Result<DirectoryAccess::Server> directory_server(std::string_view url);

}  // namespace jembatan::plan
