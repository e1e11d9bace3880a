#include "plan/realm_table.h"

#include <algorithm>
#include <optional>

#include "identity/name.h"

namespace jembatan::plan {
namespace {

// "wlan.mnc015.mcc510.3gppnetwork.org" with "nnn" for the digits; nothing if it has no such labels.
std::optional<std::string> derived(std::string name) {
  bool any = false;
  for (std::size_t at = 0; at < name.size();) {
    const std::size_t end = std::min(name.find('.', at), name.size());
    const std::string_view label = std::string_view(name).substr(at, end - at);
    const bool code = label.size() == 6 && (label.starts_with("mnc") || label.starts_with("mcc"));
    if (code && label.find_first_not_of("0123456789", 3) == std::string_view::npos) {
      name.replace(at + 3, 3, "nnn");
      any = true;
    }
    at = end + 1;
  }
  return any ? std::optional(std::move(name)) : std::nullopt;
}

}  // namespace

std::size_t RealmTable::insert(std::string_view name, std::size_t entry) {
  const auto [place, added] = entries_.try_emplace(identity::comparable(name), entry);
  has_derived_ = has_derived_ || place->first.find("nnn") != std::string::npos;
  return added ? kNone : place->second;
}

std::size_t RealmTable::find(std::string_view realm) const {
  const identity::Comparable wanted(realm);
  const std::size_t found = find_comparable(wanted.text());
  if (found != kNone || !has_derived_) return found;
  const auto general = derived(std::string(wanted.text()));
  return general ? find_comparable(*general) : kNone;
}

std::size_t RealmTable::find_comparable(std::string_view wanted) const {
  if (const auto exact = entries_.find(wanted); exact != entries_.end()) return exact->second;
  for (std::size_t dot = wanted.find('.'); dot != std::string::npos; dot = wanted.find('.', dot + 1)) {
    const auto found = entries_.find("*" + std::string(wanted.substr(dot)));
    if (found != entries_.end()) return found->second;
  }
  return kNone;
}

bool holds_realm(std::span<const std::string> list, std::string_view realm) {
  RealmTable table;
  for (const std::string& one : list) {
    if (one == kAllRealms) return true;
    table.insert(one, 0);
  }
  return !realm.empty() && table.find(realm) != RealmTable::kNone;
}

bool is_realm_pattern(std::string_view name) {
  const std::string_view rest = name.starts_with("*.") ? name.substr(2) : name;
  return !rest.empty() && rest.size() <= 253 && std::none_of(rest.begin(), rest.end(), [](char c) {
    return c == '@' || c == '*' || static_cast<unsigned char>(c) <= ' ' || c == 0x7F;
  });
}

}  // namespace jembatan::plan
