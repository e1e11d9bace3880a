#pragma once
// What a request is, where it is handled, who may come in and with what: pure functions of the request and
// the plan, which leave a trail. The server and `explain` call the same ones.
#include "condition/facts.h"
#include "plan/plan.h"

namespace jembatan::decide {

/// One rule that was looked at. Indices only: text is made when somebody asks.
struct Step {
  enum class What : std::uint8_t { route, access } what{};
  bool matched = false;
  std::uint16_t rule = 0;        ///< place in the plan's list
  std::uint16_t decided_by = 0;  ///< place of the test that decided, in the rule's condition
};
using Trail = std::vector<Step>;

/// What is decided about. Views only.
struct Request {
  const wire::PacketView& packet;
  const plan::Client& client;
  bool accounting = false;
  WallTime now{};
};

/// Who asks, as the plan understands the name, and where that leads.
struct Way {
  std::string user;                    ///< without its realm
  std::string full_name;               ///< with its realm, whether it came with one or the plan assumed it
  std::string realm;                   ///< empty if there is none
  std::string name_to_send;            ///< User-Name for the next hop; empty: as it came
  const plan::Route* route = nullptr;  ///< that decided; null: the realm table did
  const plan::Realm* entry = nullptr;  ///< of the realm table, if one matched
  plan::Destination destination;
  plan::AccountingRule accounting;
  std::string_view because;  ///< why it is refused or ignored; a literal
};

Way find_way(const plan::Plan& plan, const Request& request, Trail& trail);

/// Why a user cannot sign in at all now, whatever the password: a literal; empty if nothing stands against
/// it.
std::string_view why_shut_out(const plan::User& user, WallTime now);

/// Whether a user whose password was proved may come in, and with what.
struct Admission {
  bool permit = false;
  const plan::AccessRule* rule = nullptr;  ///< that decided; null: none matched, or the plan has none
  std::string_view because;                ///< a literal
};

Admission admit(const plan::Plan& plan, const Request& request, const Way& way, const plan::User& user,
                Trail& trail);

/// The attributes of the Access-Accept: the user's own, then those of the rule whose numbers the user's do
/// not have, then the rule's Reply-Message.
Octets compose_reply(const plan::User& user, const plan::AccessRule* rule);

/// A Reply-Message (RFC 2865 §5.18) as an encoded attribute; nothing for an empty text.
Octets reply_message(std::string_view text);

/// What a condition is evaluated over.
condition::Facts facts_of(const plan::Plan& plan, const Request& request, const Way& way,
                          const plan::User* user);

/// Attributes of RFC 2548 that methods look at.
enum class MicrosoftType : std::uint8_t {
  response_1 = 1,
  change_1 = 3,
  change_2 = 4,
  challenge = 11,
  response_2 = 25,
  change_version_2 = 27,
};
/// The value of the first of that type.
std::optional<OctetView> find_microsoft(const wire::PacketView& packet, MicrosoftType type);

/// "pap", "chap", "mschap", "mschapv2", "eap", or "none" if the request proves nothing.
std::string_view method_of(const wire::PacketView& packet);

/// One line for each step: "access rule 2 'crew on deck': no, member of "crew" (the user is in 'pier')".
std::vector<std::string> text_of(const Trail& trail, const plan::Plan& plan, const Request& request,
                                 const Way& way, const plan::User* user);

}  // namespace jembatan::decide
