#pragma once
// What an operator maintains, as values. A Plan is built whole, checked whole and never changed afterwards.
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/ip.h"
#include "condition/condition.h"
#include "identity/password.h"
#include "wire/shared_secret.h"

namespace jembatan::plan {

/// Whether packets must carry Message-Authenticator (RFC 3579 §3.2) or are only checked when they do.
enum class SignatureRule : std::uint8_t { always, if_present };

/// Which of a client's secrets: while it is rotated, both are valid.
enum class WhichSecret : std::uint8_t { current, old };

/// Who may ask.
struct Client {
  std::string name;
  Prefix address;
  std::string host;  ///< the host name that the address comes from; may be empty
  wire::SharedSecret secret;
  std::shared_ptr<const wire::SharedSecret> old_secret;  ///< still valid while the secret is rotated
  std::optional<WallTime> old_secret_until;
  std::map<std::string, std::string> labels;
  std::string note;
  SignatureRule message_authenticator = SignatureRule::always;
  std::vector<std::string> listeners;     ///< "access", "accounting", or a local endpoint; empty: all
  std::uint32_t requests_per_second = 0;  ///< 0: as many as come
  Duration waits{0};                      ///< how long the device waits for an answer in all; 0: not known
  bool enabled = true;

  const wire::SharedSecret& secret_of(WhichSecret which) const {
    return which == WhichSecret::old && old_secret ? *old_secret : secret;
  }
};

struct User {
  std::string name;  ///< with its realm, as in "sari@reef.example"
  identity::StoredPassword password;
  bool enabled = true;
  std::optional<WallTime> valid_from;
  std::optional<WallTime> valid_until;
  std::vector<std::string> groups;
  Octets reply;  ///< encoded attributes of the Access-Accept
};

/// A server to forward to.
struct Server {
  std::string name;
  IpAddress address;
  std::uint16_t access_port = 1812;
  std::uint16_t accounting_port = 1813;
  wire::SharedSecret secret;
  std::uint16_t priority = 1;  ///< lower is asked first (as in RFC 2782)
  std::uint16_t weight = 1;    ///< share within a priority (as in RFC 2782)
  SignatureRule message_authenticator = SignatureRule::always;
};

inline constexpr std::size_t kMostServers = 64;  ///< in one group

enum class WhenSilent : std::uint8_t { ignore, refuse };

struct Group {
  std::string name;
  Duration answer_within{3000};  ///< per attempt
  int attempts = 2;              ///< per server
  int down_after = 5;            ///< attempts unanswered in a row
  Duration try_again_every{30000};
  WhenSilent when_silent = WhenSilent::ignore;
  std::vector<Server> servers;
};

enum class Handling : std::uint8_t { here, forward, refuse, ignore };

/// Where requests go; `group` counts only with Handling::forward.
struct Destination {
  Handling handling = Handling::refuse;
  std::size_t group = 0;  ///< index into Plan::groups
};

/// What happens to accounting: kept in the node's own store, and sent to groups.
struct AccountingRule {
  bool here = true;
  std::vector<std::size_t> groups;  ///< indices into Plan::groups
};

/// An ordered rule: where requests are handled for which the condition holds. The first that matches decides,
/// before the realm table.
struct Route {
  std::string name;
  condition::Condition when;
  Destination destination;
  std::string message;     ///< Reply-Message of a refusal; may be empty
  bool access = true;      ///< it looks at access requests
  bool accounting = true;  ///< it looks at accounting requests
};

/// An ordered rule for access requests that are handled here. The first that matches decides; none: reject.
struct AccessRule {
  std::string name;
  std::optional<condition::Condition> when;  ///< without one it always matches
  bool permit = false;
  std::vector<std::string> methods;  ///< that are acceptable; empty: all
  std::string message;               ///< Reply-Message; may be empty
  Octets reply;                      ///< encoded attributes of the Access-Accept
};

struct Realm {
  std::string name;  ///< "reef.example", or "*.islands.example" for everything below
  Destination access;
  AccountingRule accounting;
  bool strip = false;  ///< take the realm off User-Name before forwarding
};

struct RealmDefault {
  Destination unknown;
  Destination missing;
  std::string assume;  ///< the realm of names without one; empty: `missing` decides
};

}  // namespace jembatan::plan
