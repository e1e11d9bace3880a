#include "identity/name.h"

#include <array>

namespace jembatan::identity {
namespace {

constexpr std::array<std::string_view, 5> kForms{"user@realm", "realm\\user", "realm/user", "realm!user",
                                                 "realm!user@via"};

std::optional<Name> realm_first(std::string_view name, char between) {
  const std::size_t at = name.find(between);
  if (at == std::string_view::npos || at == 0 || at + 1 == name.size()) return std::nullopt;
  return Name{name.substr(at + 1), name.substr(0, at), {}};
}

std::optional<Name> user_first(std::string_view name) {
  const std::size_t at = name.rfind('@');
  if (at == std::string_view::npos || at + 1 == name.size()) return std::nullopt;
  return Name{name.substr(0, at), name.substr(at + 1), {}};
}

}  // namespace

std::span<const std::string_view> name_forms() {
  return kForms;
}

std::string_view name_of(NameForm form) {
  return kForms[static_cast<std::size_t>(form)];
}

std::optional<Name> split(std::string_view user_name, NameForm form) {
  switch (form) {
    case NameForm::user_at_realm:
      return user_first(user_name);
    case NameForm::realm_backslash_user:
      return realm_first(user_name, '\\');
    case NameForm::realm_slash_user:
      return realm_first(user_name, '/');
    case NameForm::realm_bang_user:
      return realm_first(user_name, '!');
    case NameForm::realm_bang_user_at_via: {
      const auto outer = user_first(user_name);
      const auto inner = outer ? realm_first(outer->user, '!') : std::nullopt;
      if (!inner) return std::nullopt;
      return Name{inner->user, inner->realm, outer->realm};
    }
  }
  return std::nullopt;
}

}  // namespace jembatan::identity
