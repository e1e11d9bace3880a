#pragma once
// What stands in a reply that is decided here.
#include "decide/decide.h"
#include "decide/hidden_values.h"

namespace jembatan::decide {

/// One attribute of a composed reply, and where it comes from.
struct ReplyPart {
  enum class From : std::uint8_t { user, rule, set, directory } from{};
  std::string_view owner;                  ///< the user, rule, reply set or directory
  const plan::Assignment* what = nullptr;  ///< null: the rule's Reply-Message
  Octets attributes;                       ///< empty if it was left out
  std::string left_out;                    ///< why
};

/// Who and what a reply is composed of.
struct Granted {
  const Subject* subject = nullptr;        ///< whose own attributes it has; null: none
  const plan::AccessRule* rule = nullptr;  ///< that decided; null: none
  wire::Code code{};
};

/// What a reply is composed with.
struct ComposeTools {
  HiddenValues& hidden;                     ///< of the reply
  std::vector<ReplyPart>* parts = nullptr;  ///< if given: gets what its attributes come from, in their order
};

/// The attributes of the Access-Accept: the subject's own, then those of the rule that the subject does not
/// have, then those of its reply sets that are not there yet, then the rule's Reply-Message. Attributes whose
/// places cannot be filled in are left out. Of an Access-Reject: what a rule that denies has (its plan
/// was checked: RFC 2865 §5.44).
Octets compose_reply(const plan::Plan& plan, const condition::Facts& facts, const Granted& granted,
                     const ComposeTools& tools);

/// A Reply-Message (RFC 2865 §5.18) as an encoded attribute; nothing for an empty text.
Octets reply_message(std::string_view text);

}  // namespace jembatan::decide
