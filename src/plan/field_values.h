#pragma once
// What fields of several kinds of objects hold: secrets, signing rules, values that are parsed.
#include "base/secret.h"
#include "document/reading.h"
#include "plan/model.h"
#include "plan/outside.h"

namespace jembatan::plan {

/// Text, or where the text is kept; nothing, with a problem, if neither. The value never appears in a
/// problem.
std::optional<Secret> read_secret(document::Reading& r, const document::Entry& e, const Outside& outside);
/// The same; an empty one, with a problem, if there is none.
wire::SharedSecret read_shared_secret(document::Reading& r, const document::Entry& e, const Outside& outside);
/// "always", "if-present"; always, with a problem, if it is neither.
SignatureRule read_signature_rule(document::Reading& r, const document::Entry& e);

/// A condition, checked against the catalogue; mistakes are shown where they stand inside its text.
std::optional<condition::Condition> read_condition(document::Reading& r, const document::Entry& e,
                                                   const dictionary::Catalogue& names);
/// The same of what the request has: with a problem if it asks who the user is.
///   owner  whose condition it is: "a route"
std::optional<condition::Condition> read_request_condition(document::Reading& r, const document::Entry& e,
                                                           const dictionary::Catalogue& names,
                                                           std::string_view owner);
/// How many sessions there are elsewhere is counted when the user is known and has proved it: elsewhere, it
/// is a problem to ask for them.
void refuse_sessions(document::Reading& r, const document::Entry& e, const condition::Condition& when);
/// A text that fits into one Reply-Message; empty, with a problem, if it does not.
std::string read_message(document::Reading& r, const document::Entry& e);

/// A text that `parse` understands; otherwise `out` stays, with a problem.
template <class Value>
void read_parsed(document::Reading& r, const document::Entry& e, Result<Value> (*parse)(std::string_view),
                 Value& out) {
  const auto text = r.text(e);
  if (!text) return;
  if (const auto value = parse(*text)) {
    out = *value;
  } else {
    r.wrong(e, "'" + e.key + "': " + value.error().text);
  }
}

}  // namespace jembatan::plan
