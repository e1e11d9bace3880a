#pragma once
// What a request is, where it is handled, who may come in and with what: pure functions of the request and
// the plan, which leave a trail. The server, `explain` and the journal call the same ones.
#include "condition/facts.h"
#include "decide/elsewhere.h"
#include "decide/subject.h"
#include "identity/credential.h"

namespace jembatan::decide {

/// One rule that was looked at. Indices only: text is made when somebody asks.
struct Step {
  enum class What : std::uint8_t { route, access } what{};
  bool matched = false;
  std::uint16_t rule = 0;        ///< place in the plan's list
  std::uint16_t decided_by = 0;  ///< place of the test that decided, in the rule's condition, or kOtherProof
  static constexpr std::uint16_t kOtherProof = 0xFFFF;  ///< the rule looks at requests with another proof
};
using Trail = std::vector<Step>;

/// What is decided about. Views only.
struct Request {
  const plan::Plan& plan;
  const wire::PacketView& packet;
  const plan::Client& client;
  bool accounting = false;
  WallTime now{};
  Elsewhere* elsewhere = nullptr;  ///< null: nobody is anywhere else
};

/// Who asks, as the plan understands the name, and where that leads.
struct Way {
  static constexpr std::size_t kNoForm = ~std::size_t{0};
  identity::Credential credential;     ///< what the request proves its user by
  std::string name;                    ///< as it came: User-Name, or the identity of EAP without one
  std::size_t form = kNoForm;          ///< of the plan's name forms, that fitted
  std::string_view alias;              ///< the other name of the realm that it came with; may be empty
  std::string user;                    ///< without its realm
  std::string realm;                   ///< by the name that the plan has for it; empty if there is none
  std::string full_name;               ///< with its realm, whether it came with one or the plan assumed it
  std::string name_to_send;            ///< User-Name for the next hop; empty: as it came
  const plan::Route* route = nullptr;  ///< that decided; null: the realm table did
  const plan::Realm* entry = nullptr;  ///< of the realm table, if one matches
  plan::Destination destination;
  plan::AccountingRule accounting;
  std::string_view because;  ///< why it is refused or ignored; a literal
};

/// The directory that the people of a request's realm are in; null: none.
const plan::Directory* directory_of(const plan::Plan& plan, const Way& way);

/// Who asks: the name in its parts (RFC 7542), its realm by the name that the plan has for it.
Way identify(const Request& request);

/// Who asks, and where the request is handled.
///   trail  if given: gets the rules that were looked at
Way find_way(const Request& request, Trail* trail = nullptr);

/// Where a request that is forwarded is sent as well; null: nowhere.
const plan::Mirror* mirror_of(const plan::Plan& plan, const Way& way);

/// Reasons that others ask for.
inline constexpr std::string_view kNotFromHere = "the user may not come from this client";
inline constexpr std::string_view kNoRealm = "no realm of the plan matches";
inline constexpr std::string_view kNotByDirectory =
    "what the directory says of passwords does not prove this method";
inline constexpr std::string_view kNotInDirectory = "nobody in the directory has this name";
inline constexpr std::string_view kSeveralInDirectory = "several entries of the directory have this name";
inline constexpr std::string_view kDirectorySilent = "no server of the directory answered";
inline constexpr std::string_view kNotAnswered = "the method is not answered here: PAP, CHAP and MS-CHAP are";

/// Why somebody cannot sign in at all now, whatever the password: a literal; empty if nothing stands against
/// it.
std::string_view why_shut_out(const Subject& subject, const Request& request);

/// Whether somebody may come in, and with what.
struct Admission {
  bool permit = false;
  const plan::AccessRule* rule = nullptr;  ///< that decided; null: none matched, or the plan has none
  std::string_view because;                ///< a literal
};
/// What the reason is about: the rule's name; where its methods decided, both sides; where no rule matched,
/// the method and the hour, which rules look at.
///   method  that was used
std::string detail_of(const Admission& admission, std::string_view method, WallTime now);
Admission admit(const Request& request, const Way& way, const Subject& subject, Trail* trail = nullptr);

/// What becomes of a record: "kept here, sent to nobody", "kept here, queued for 'reef-records'".
std::string accounting_text(const plan::Plan& plan, const plan::AccountingRule& accounting);

/// The method that conditions and rules see: the one that was proved, or that the request uses.
std::string_view method_of(const Way& way, const Subject* subject);

/// What a condition is evaluated over.
///   subject  null: not known, or not asked for yet
condition::Facts facts_of(const Request& request, const Way& way, const Subject* subject);

}  // namespace jembatan::decide
