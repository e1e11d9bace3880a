#include "plan/field_values.h"

#include <array>

namespace jembatan::plan {

using document::Entry;
using document::Kind;
using document::Reading;

std::optional<Secret> read_secret(Reading& r, const Entry& e, const Outside& outside) {
  auto found = secret_of(e, outside);
  if (found) return std::move(*found);
  const bool form = found.error().code == Errc::malformed;
  const bool has_source = e.value.kind == Kind::table && e.value.entries.size() == 1;
  r.wrong(has_source ? e.value.entries.front() : e, found.error().text,
          form ? std::string(kSecretForms) : "");
  return std::nullopt;
}

wire::SharedSecret read_shared_secret(Reading& r, const Entry& e, const Outside& outside) {
  return wire::SharedSecret(read_secret(r, e, outside).value_or(Secret{}));
}

SignatureRule read_signature_rule(Reading& r, const Entry& e) {
  static constexpr std::array<std::string_view, 2> kRules{"always", "if-present"};
  return r.choice(e, kRules).value_or(0) == 0 ? SignatureRule::always : SignatureRule::if_present;
}

}  // namespace jembatan::plan
