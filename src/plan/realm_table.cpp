#include "plan/realm_table.h"

#include <algorithm>

#include "identity/name.h"

namespace jembatan::plan {

std::size_t RealmTable::insert(std::string_view name, std::size_t entry) {
  const auto [place, added] = entries_.try_emplace(identity::comparable(name), entry);
  return added ? kNone : place->second;
}

std::size_t RealmTable::find(std::string_view realm) const {
  std::string wanted = identity::comparable(realm);
  if (const auto exact = entries_.find(wanted); exact != entries_.end()) return exact->second;
  for (std::size_t dot = wanted.find('.'); dot != std::string::npos; dot = wanted.find('.', dot + 1)) {
    const auto found = entries_.find("*" + wanted.substr(dot));
    if (found != entries_.end()) return found->second;
  }
  return kNone;
}

bool is_realm_pattern(std::string_view name) {
  const std::string_view rest = name.starts_with("*.") ? name.substr(2) : name;
  return !rest.empty() && rest.size() <= 253 && std::none_of(rest.begin(), rest.end(), [](char c) {
    return c == '@' || c == '*' || static_cast<unsigned char>(c) <= ' ' || c == 0x7F;
  });
}

}  // namespace jembatan::plan
