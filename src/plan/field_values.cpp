#include "plan/field_values.h"

#include <fmt/format.h>

#include <array>

#include "base/text.h"

namespace jembatan::plan {

using document::Entry;
using document::Kind;
using document::Reading;

namespace {

constexpr std::size_t kMostMessage = 253;  // one Reply-Message

}  // namespace

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

std::optional<condition::Condition> read_condition(Reading& r, const Entry& e,
                                                   const dictionary::Catalogue& names) {
  const auto text = r.text(e);
  if (!text) return std::nullopt;
  std::vector<condition::Mistake> mistakes;
  auto out = condition::Condition::parse(*text, names, mistakes);
  for (condition::Mistake& mistake : mistakes) {
    r.wrong_inside(e, mistake.at, mistake.size, std::move(mistake.text), std::move(mistake.allowed));
  }
  return out;
}

std::optional<condition::Condition> read_request_condition(Reading& r, const Entry& e,
                                                           const dictionary::Catalogue& names,
                                                           std::string_view owner) {
  auto out = read_condition(r, e, names);
  if (!out) return out;
  refuse_sessions(r, e, *out);
  const bool groups = out->uses(condition::Fact::groups);
  if (groups || out->uses(condition::Fact::directory))
    r.wrong(e,
            fmt::format("'{}' of {} asks for '{}', and the user is not known yet", e.key, owner,
                        groups ? "member of" : "directory"),
            "what the request has; groups are asked for by access rules and edits");
  return out;
}

void refuse_sessions(Reading& r, const Entry& e, const condition::Condition& when) {
  if (when.uses(condition::Fact::sessions))
    r.wrong(e, fmt::format("'{}' asks for 'sessions', which are counted for access rules only", e.key),
            "what the request has; 'sessions' in [[access]]");
}

std::string read_message(Reading& r, const Entry& e) {
  const auto text = r.text(e);
  if (!text) return "";
  if (text->size() <= kMostMessage && is_plain_text(view_of(*text))) return *text;
  r.wrong(e, fmt::format("'{}' has {} octets, or control characters", e.key, text->size()),
          fmt::format("plain text of at most {} octets", kMostMessage));
  return "";
}

}  // namespace jembatan::plan
