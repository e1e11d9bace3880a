#include "directory/look_up.h"

#include <fmt/format.h>
#include <ldap.h>

#include <charconv>

#include "base/text.h"
#include "identity/directory_filter.h"

namespace jembatan::directory {
namespace {

using decide::Person;
using plan::Directory;

constexpr int kMostGroups = 2000;           // of one person, with those that groups are in
constexpr int kMostSearches = 200;          // for groups in groups
constexpr std::size_t kLongestFact = 1024;  // octets of an attribute's value that conditions look at

// What accounts say of themselves: RFC 2307 §2.3 (days since 1970), and flags of which 2 means switched off.
constexpr const char* kExpires = "shadowExpire";
constexpr const char* kFlags = "userAccountControl";
constexpr long kSwitchedOff = 2;

std::optional<long> number_in(const Entry& entry, const char* attribute) {
  const std::string* text = entry.first(attribute);
  long out = 0;
  if (text == nullptr || std::from_chars(text->data(), text->data() + text->size(), out).ec != std::errc())
    return std::nullopt;
  return out;
}

std::vector<std::string> wanted_attributes(const Directory& directory) {
  std::vector<std::string> out = directory.attributes;
  for (const std::string& one :
       {directory.member_of, directory.kept_password, std::string(kExpires), std::string(kFlags)})
    if (!one.empty()) out.push_back(one);
  return out;
}

}  // namespace

std::string short_name(const std::string& name) {
  LDAPDN parsed = nullptr;
  if (ldap_str2dn(name.c_str(), &parsed, LDAP_DN_FORMAT_LDAPV3) != LDAP_SUCCESS || parsed == nullptr)
    return name;
  std::string out = name;
  if (parsed[0] != nullptr && parsed[0][0] != nullptr && parsed[0][0]->la_value.bv_val != nullptr)
    out.assign(parsed[0][0]->la_value.bv_val, parsed[0][0]->la_value.bv_len);
  ldap_dnfree(parsed);
  return out;
}

std::string filter_for(const Directory& directory, const Wanted& wanted) {
  return identity::filled_filter(directory.filter,
                                 {{"user", wanted.user}, {"realm", wanted.realm}, {"name", wanted.name}});
}

Result<std::vector<Entry>> find_entries(Connection& connection, const Directory& directory,
                                        const Wanted& wanted) {
  return connection.search(
      {directory.base, directory.scope, filter_for(directory, wanted), wanted_attributes(directory), 2});
}

// Level by level: the groups that have somebody as a member, then those that have these groups.
Result<std::set<std::string>> find_groups(Connection& connection, const Directory& directory,
                                          const Wanted& wanted, const Entry& entry) {
  std::set<std::string> out;
  std::set<std::string> seen;
  std::vector<std::string> next;
  if (const auto said = entry.values.find(lower(directory.member_of)); said != entry.values.end()) {
    for (const std::string& name : said->second) {
      if (seen.size() >= kMostGroups || !seen.insert(name).second) continue;
      out.insert(escaped(short_name(name)));
      next.push_back(name);
    }
  }
  if (directory.group_base.empty()) return out;
  std::vector<std::string> level{entry.name};
  int searches = 0;
  for (unsigned depth = 0; depth <= directory.nested && !level.empty(); ++depth) {
    for (const std::string& member : level) {
      if (++searches > kMostSearches) return out;
      const bool is_person = member == entry.name;
      const auto found = connection.search(
          {directory.group_base,
           Directory::Scope::subtree,
           identity::filled_filter(directory.group_filter, {{"dn", member},
                                                            {"user", is_person ? wanted.user : ""},
                                                            {"realm", is_person ? wanted.realm : ""},
                                                            {"name", is_person ? wanted.name : ""}}),
           {directory.group_name},
           kMostGroups});
      if (!found) return found.error();
      for (const Entry& group : *found) {
        if (seen.size() >= kMostGroups || !seen.insert(group.name).second) continue;
        const std::string* name = group.first(directory.group_name);
        out.insert(escaped(name == nullptr ? short_name(group.name) : *name));
        next.push_back(group.name);
      }
    }
    level = std::exchange(next, {});
  }
  return out;
}

Person::Account account_in(const Entry& entry, WallTime now) {
  if (const auto flags = number_in(entry, kFlags); flags && (*flags & kSwitchedOff) != 0)
    return Person::Account::disabled;
  const auto day = number_in(entry, kExpires);
  if (day && *day >= 0 && now.time_since_epoch() >= std::chrono::days(*day)) return Person::Account::expired;
  return Person::Account::usable;
}

identity::StoredPassword take_stored(Entry& entry, const Directory& directory) {
  const auto found = entry.values.find(lower(directory.kept_password));
  if (found == entry.values.end() || found->second.empty()) return {};
  std::string& kept = found->second.front();
  identity::StoredPassword out;
  if (directory.passwords == Directory::Passwords::clear) {
    out = identity::StoredPassword::clear(Secret(kept));
  } else if (auto hash = identity::StoredPassword::nt(
                 Secret(kept.size() == 16 ? to_hex(view_of(kept)) : kept))) {  // as text, or its 16 octets
    out = std::move(*hash);
  }
  wipe(OctetSpan(reinterpret_cast<std::uint8_t*>(kept.data()), kept.size()));
  entry.values.erase(found);
  return out;
}

Result<Found> find_person(Connection& connection, const Question& question) {
  const Directory& directory = question.directory;
  auto entries = find_entries(connection, directory, question.wanted);
  if (!entries) return entries.error();
  Found out;
  Person& person = out.person;
  person.found = entries->empty() ? Person::Found::nobody : Person::Found::several;
  if (entries->size() != 1) return out;
  Entry& entry = entries->front();
  out.stored = take_stored(entry, directory);
  person.found = Person::Found::one;
  person.name = entry.name;
  person.account = account_in(entry, question.now);
  for (const std::string& attribute : directory.attributes)
    if (const std::string* value = entry.first(attribute))
      person.attributes[attribute] = value->substr(0, kLongestFact);
  if (question.known != nullptr && question.known->name == entry.name) {
    person.groups = question.known->groups;
    return out;
  }
  const auto groups = find_groups(connection, directory, question.wanted, entry);
  if (!groups) return groups.error();
  person.groups.assign(groups->begin(), groups->end());
  return out;
}

}  // namespace jembatan::directory
