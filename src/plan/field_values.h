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
