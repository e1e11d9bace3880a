#include "plan/plan.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "identity/name.h"
#include "wire/attribute.h"

namespace jembatan::plan {

Duration wait_of_attempt(const Group& group, int attempt) {
  constexpr Duration kLongest{16000};  // RFC 5080 §2.2.1: MRT
  const Duration longest = std::max(kLongest, group.answer_within);
  Duration wait = group.answer_within;
  for (int i = 1; i < attempt && wait < longest; ++i) wait *= 2;
  return std::min(wait, longest);
}

Duration wait_of_server(const Group& group) {
  Duration out{0};
  for (int attempt = 1; attempt <= group.attempts; ++attempt) out += wait_of_attempt(group, attempt);
  return out;
}

const Client* Plan::client_at(const IpAddress& address) const {
  const std::size_t found = client_table.find(address);
  return found == ClientTable::kNone ? nullptr : &clients[found];
}

const Client* Plan::client_named(std::string_view name) const {
  const auto found = client_names.find(name);
  return found == client_names.end() ? nullptr : &clients[found->second];
}

bool Plan::is_mirror(std::size_t group) const {
  const auto leads = [group](const auto& from) { return from.mirror && from.mirror->group == group; };
  return std::any_of(groups.begin(), groups.end(), leads) || std::any_of(routes.begin(), routes.end(), leads);
}

const User* Plan::user_named(std::string_view name) const {
  const auto found = user_table.find(identity::Comparable(name).text());
  return found == user_table.end() ? nullptr : &users[found->second];
}

const Realm* Plan::realm_named(std::string_view realm) const {
  const std::size_t found = realm_table.find(realm);
  return found == RealmTable::kNone ? nullptr : &realms[found];
}

std::vector<identity::Token> Plan::tokens_of(std::string_view user, std::size_t factor) const {
  std::vector<identity::Token> out;
  const auto found = enrolment_table.find(identity::Comparable(user).text());
  if (found == enrolment_table.end()) return out;
  for (const std::size_t i : found->second) {
    if (enrolments[i].factor == factor) out.push_back(enrolments[i].token);
  }
  return out;
}

Result<const Client*> find_client(const Plan& plan, std::string_view name) {
  if (const Client* found = plan.client_named(name)) return found;
  std::vector<std::string> names;
  for (const Client& client : plan.clients) names.push_back(client.name);
  const auto near = nearest(name, names);
  return fail(Errc::not_found, fmt::format("client '{}' not found{}", escaped(name),
                                           near ? fmt::format("; nearest: '{}'", escaped(*near)) : ""));
}

std::string first_vlan_giver(const Plan& plan) {
  const auto gives = [](const auto& object) {
    return std::any_of(object.reply.begin(), object.reply.end(), [](const Assignment& one) {
      return one.path ==
             dictionary::Path{static_cast<std::uint32_t>(wire::AttributeType::tunnel_private_group_id)};
    });
  };
  const auto first = [&](std::string_view kind, const auto& all) {
    const auto found = std::find_if(all.begin(), all.end(), gives);
    return found == all.end() ? "" : fmt::format("{} '{}'", kind, found->name);
  };
  std::string out = first("access rule", plan.access_rules);
  if (out.empty()) out = first("reply set", plan.reply_sets);
  return out.empty() ? first("user", plan.users) : out;
}

}  // namespace jembatan::plan
