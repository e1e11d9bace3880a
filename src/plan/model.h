#pragma once
// What an operator maintains, as values. A Plan is built whole, checked whole and never changed afterwards.
#include <map>
#include <memory>
#include <optional>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/ip.h"
#include "condition/template.h"
#include "identity/name.h"
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
  std::vector<std::string> listeners;       ///< "access", "accounting", or a local endpoint; empty: all
  std::uint32_t requests_per_second = 0;    ///< 0: as many as come
  Duration waits{0};                        ///< how long the device waits for an answer in all; 0: not known
  std::uint16_t authorization_port = 0;     ///< where it takes Disconnect- and CoA-Requests; 0: nowhere
  std::size_t device = 0;                   ///< index into Plan::devices, if it takes such requests
  std::vector<std::string> may_disconnect;  ///< realms whose sessions it may end; "*": of all users
  std::vector<std::string> may_change;      ///< the same for changing them
  bool enabled = true;

  const wire::SharedSecret& secret_of(WhichSecret which) const {
    return which == WhichSecret::old && old_secret ? *old_secret : secret;
  }
};

/// One attribute that a reply gets, or that an edit sets: fixed, with places that are filled in from the
/// request, or hidden.
struct Assignment {
  std::string name;  ///< as the plan writes it: "Filter-Id", "Tunnel-Type[1]", "26.32473.5"
  const dictionary::Definition* attribute = nullptr;  ///< null: the catalogue does not know it
  dictionary::Path path;
  Octets fixed;  ///< whole attributes
  std::optional<condition::Template> text;
  std::optional<Secret> hidden = {};  ///< of a hidden attribute without places: hidden for each packet anew

  bool is_fixed() const { return !text && !hidden; }
  bool is_hidden() const { return attribute != nullptr && attribute->hiding != dictionary::Hiding::none; }
};
using Assignments = std::vector<Assignment>;

/// Attributes that access rules share.
struct ReplySet {
  std::string name;
  Assignments reply;
};

struct User {
  std::string name;  ///< with its realm, as in "sari@reef.example"
  identity::StoredPassword password;
  bool enabled = true;
  std::optional<WallTime> valid_from;
  std::optional<WallTime> valid_until;
  std::vector<std::string> groups;
  std::vector<std::string> clients;  ///< names of those that the user may come from; empty: all
  Assignments reply;                 ///< of the Access-Accept
};

/// A server to forward to. A host name with several addresses makes as many servers out of one entry of the
/// plan: "reef-1@192.0.2.7" and "reef-1@192.0.2.8".
struct Server {
  std::string name;          ///< in its group, unlike all others
  std::string entry;         ///< as the plan names it: what conditions compare
  std::uint64_t number = 0;  ///< stable_number of the name
  IpAddress address;
  std::string host;                 ///< the host name that the address comes from; may be empty
  std::uint16_t of_its_entry = 1;   ///< how many servers share the entry's weight
  std::optional<IpAddress> source;  ///< where requests to it leave from; empty: as the node file says
  std::uint16_t access_port = 1812;
  std::uint16_t accounting_port = 1813;
  std::uint16_t authorization_port = 3799;  ///< of those in Plan::devices
  wire::SharedSecret secret;
  std::uint16_t priority = 1;  ///< lower is asked first (as in RFC 2782)
  std::uint16_t weight = 1;    ///< share within a priority (as in RFC 2782)
  SignatureRule message_authenticator = SignatureRule::always;
};

inline constexpr std::size_t kMostServers = 256;  ///< in one group
inline constexpr std::size_t kMostAddresses = 8;  ///< of one host name

/// What the client gets if no server of a group answers: nothing, an Access-Reject, or what this node itself
/// would say.
enum class WhenSilent : std::uint8_t { ignore, refuse, here };

/// What keeps requests at one server of a group, besides their conversation.
enum class Sticky : std::uint8_t { no, user, station, session };

/// How the node finds out by itself whether a server lives.
struct Probe {
  bool status_server = false;  ///< it asks for its status (RFC 5997)
  std::string user;            ///< or signs this user in; empty: no
  Secret password;
  bool any() const { return status_server || !user.empty(); }
};

/// Requests that are also sent to another group, whose answers are compared and thrown away.
struct Mirror {
  std::size_t group = 0;  ///< index into Plan::groups
  unsigned percent = 100;
  std::vector<const dictionary::Definition*> compare;  ///< besides the code
};

struct Group {
  std::string name;
  Duration answer_within{3000};  ///< per attempt
  int attempts = 2;              ///< per server
  int down_after = 5;            ///< attempts unanswered in a row
  Duration try_again_every{30000};
  Duration give_up_after{0};  ///< in all; 0: when every server was asked as often as may be
  Duration warm_up{0};        ///< in which a server that is back gets to its share
  Sticky sticky = Sticky::no;
  Probe probe;
  WhenSilent when_silent = WhenSilent::ignore;
  std::optional<Mirror> mirror;
  std::vector<Server> servers;
};

/// How long an attempt at a server waits, the first being 1: each waits twice as long as the one before, up
/// to the longest that is worth it, before chance makes it a tenth longer or shorter (RFC 5080 §2.2.1).
Duration wait_of_attempt(const Group& group, int attempt);
/// All attempts at one server, at the longest.
Duration wait_of_server(const Group& group);

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
  std::string message;           ///< Reply-Message of a refusal; may be empty
  bool access = true;            ///< it looks at access requests
  bool accounting = true;        ///< it looks at accounting requests
  std::optional<Mirror> mirror;  ///< instead of that of the group
};

/// Who has proved that the user is who he says: the user by a password, or the client, which this node
/// believes (RFC 5176 §3.2 knows such requests as Authorize-Only).
enum class Proof : std::uint8_t { password, client };

/// An ordered rule for access requests that are handled here. The first that matches decides; none: reject.
struct AccessRule {
  std::string name;
  std::optional<condition::Condition> when;  ///< without one it always matches
  bool permit = false;
  Proof proof = Proof::password;     ///< the requests that it looks at
  std::vector<std::string> methods;  ///< that are acceptable; empty: all
  std::vector<std::size_t> factors;  ///< indices into Plan::factors: all of them are asked for
  std::optional<condition::Condition> factors_unless;  ///< where it holds, they are not
  std::string message;                                 ///< Reply-Message; may be empty
  Assignments reply;                                   ///< of the Access-Accept, or of the Access-Reject
  std::vector<std::size_t> also;                       ///< indices into Plan::reply_sets
};

/// The points of a request's life at which attributes can be changed.
enum class EditPoint : std::uint8_t {
  received,    ///< as it came, before anything is decided
  forwarding,  ///< before it goes to a server
  answered,    ///< the answer of a server, as it came
  replying,    ///< the reply, before it goes to the client
};
inline constexpr std::size_t kEditPoints = 4;
std::string_view name_of(EditPoint point);  ///< as plans write it

/// An ordered change of attributes: copy, rename, remove, set, add, in this order. All that match are done.
struct Edit {
  /// A pattern that an attribute must match; its named groups are what {match.NAME} stands for.
  struct Rewrite {
    const dictionary::Definition* attribute = nullptr;
    std::shared_ptr<const re2::RE2> pattern;
    std::string source;
  };
  using Pair = std::pair<const dictionary::Definition*, const dictionary::Definition*>;
  std::string name;
  EditPoint at{};
  bool access = true;
  bool accounting = true;
  std::optional<condition::Condition> when;
  std::vector<Rewrite> rewrites;
  std::vector<Pair> copies;   ///< from, to
  std::vector<Pair> renames;  ///< from, to
  std::vector<const dictionary::Definition*> removes;
  Assignments sets;
  Assignments adds;
};

struct Realm {
  /// "reef.example", "*.islands.example" for everything below, or with labels mncNNN and mccNNN for any three
  /// digits there (3GPP TS 23.003 §19.2)
  std::string name;
  std::vector<std::string> aliases;  ///< other names, which are taken for this one
  Destination access;
  AccountingRule accounting;
  bool strip = false;                    ///< take the realm off User-Name before forwarding
  std::optional<std::size_t> directory;  ///< index into Plan::directories: its people are there
};

struct RealmDefault {
  Destination unknown;
  Destination missing;
  std::optional<AccountingRule> accounting;  ///< of both; none: here, and the group that they go to
  std::string assume;                        ///< the realm of names without one; empty: `missing` decides
  std::size_t most_hops = 16;  ///< proxies that a request may have passed when it is to be forwarded
};

/// How people's names and passwords are taken.
struct SignIn {
  std::vector<identity::NameForm> name_forms{identity::NameForm::user_at_realm};  ///< in the order of trying
  std::uint32_t slow_after = 10;  ///< wrong passwords in a row, by user, client and station; 0: never
  Duration slow_at_most{60000};   ///< the longest time until the next password is looked at
};

}  // namespace jembatan::plan
