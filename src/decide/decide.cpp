#include "decide/decide.h"

#include <fmt/format.h>

#include <algorithm>
#include <bitset>

#include "base/text.h"
#include "identity/name.h"

namespace jembatan::decide {

using plan::Handling;
using wire::AttributeType;

namespace {

constexpr std::uint8_t kChapPassword = 3;
constexpr std::uint32_t kMicrosoft = 311;  // RFC 2548

// What the realm table says, when no route has decided.
void by_realm(const plan::Plan& plan, Way& way) {
  if (way.realm.empty()) {
    way.destination = plan.realm_default.missing;
    way.because = way.full_name.empty() ? "no User-Name" : "the name has no realm";
  } else if (const plan::Realm* entry = plan.realm_named(way.realm)) {
    way.entry = entry;
    way.destination = entry->access;
    way.accounting = entry->accounting;
    if (entry->strip) way.name_to_send = way.user;
    way.because = "the plan says so for this realm";
    return;
  } else {
    way.destination = plan.realm_default.unknown;
    way.because = "no realm of the plan matches";
  }
  if (way.destination.handling == Handling::forward) way.accounting.groups = {way.destination.group};
}

void split_name(const plan::Plan& plan, const wire::PacketView& packet, Way& way) {
  const std::string_view name = wire::text_in(packet.find(AttributeType::user_name));
  const identity::Name parts = identity::split(name);
  way.full_name = name;
  way.user = parts.user;
  way.realm = parts.realm;
  if (!way.realm.empty() || way.user.empty() || plan.realm_default.assume.empty()) return;
  way.realm = plan.realm_default.assume;
  way.full_name = fmt::format("{}@{}", way.user, way.realm);
  way.name_to_send = way.full_name;
}

void take(Trail& trail, Step::What what, bool matched, std::size_t rule, std::size_t decided_by) {
  trail.push_back({what, matched, static_cast<std::uint16_t>(rule), static_cast<std::uint16_t>(decided_by)});
}

}  // namespace

std::optional<OctetView> find_microsoft(const wire::PacketView& packet, MicrosoftType type) {
  for (const wire::Attribute attribute : packet.attributes()) {
    const OctetView value = attribute.value;
    if (attribute.type != AttributeType::vendor_specific || value.size() < 6 ||
        load32(value.data()) != kMicrosoft)
      continue;
    for (OctetView inside = value.subspan(4);
         inside.size() >= 2 && inside[1] >= 2 && inside[1] <= inside.size();
         inside = inside.subspan(inside[1])) {
      if (inside[0] == static_cast<std::uint8_t>(type)) return inside.subspan(2, inside[1] - 2U);
    }
  }
  return std::nullopt;
}

std::string_view method_of(const wire::PacketView& packet) {
  if (packet.find(AttributeType::eap_message)) return "eap";
  if (packet.find(AttributeType::user_password)) return "pap";
  if (packet.find(static_cast<AttributeType>(kChapPassword))) return "chap";
  if (find_microsoft(packet, MicrosoftType::response_2)) return "mschapv2";
  if (find_microsoft(packet, MicrosoftType::response_1)) return "mschap";
  return "none";
}

condition::Facts facts_of(const plan::Plan& plan, const Request& request, const Way& way,
                          const plan::User* user) {
  condition::Facts out;
  out.packet = &request.packet;
  out.catalogue = plan.catalogue.get();
  out.user = way.user;
  out.realm = way.realm;
  out.client = request.client.name;
  out.listener = request.accounting ? "accounting" : "access";
  out.method = method_of(request.packet);
  out.labels = &request.client.labels;
  out.groups = user == nullptr ? nullptr : &user->groups;
  out.now = request.now;
  return out;
}

Way find_way(const plan::Plan& plan, const Request& request, Trail& trail) {
  Way way;
  split_name(plan, request.packet, way);
  const condition::Facts facts = facts_of(plan, request, way, nullptr);
  for (std::size_t i = 0; i < plan.routes.size(); ++i) {
    const plan::Route& route = plan.routes[i];
    if (request.accounting ? !route.accounting : !route.access) continue;
    std::size_t decided_by = 0;
    const bool matched = route.when.holds(facts, &decided_by);
    take(trail, Step::What::route, matched, i, decided_by);
    if (!matched) continue;
    way.route = &route;
    way.destination = route.destination;
    if (route.destination.handling == Handling::forward) way.accounting.groups = {route.destination.group};
    way.because = "a route says so";
    break;
  }
  if (way.route == nullptr) by_realm(plan, way);
  return way;
}

std::string_view why_shut_out(const plan::User& user, WallTime now) {
  if (!user.enabled) return "the user is switched off";
  if (user.valid_from && now < *user.valid_from) return "the user is not valid yet";
  if (user.valid_until && now >= *user.valid_until) return "the user has expired";
  return {};
}

Admission admit(const plan::Plan& plan, const Request& request, const Way& way, const plan::User& user,
                Trail& trail) {
  if (plan.access_rules.empty()) return {true, nullptr, "password matches"};
  const condition::Facts facts = facts_of(plan, request, way, &user);
  for (std::size_t i = 0; i < plan.access_rules.size(); ++i) {
    const plan::AccessRule& rule = plan.access_rules[i];
    std::size_t decided_by = 0;
    const bool matched = !rule.when || rule.when->holds(facts, &decided_by);
    take(trail, Step::What::access, matched, i, decided_by);
    if (!matched) continue;
    const bool acceptable = rule.methods.empty() || std::find(rule.methods.begin(), rule.methods.end(),
                                                              facts.method) != rule.methods.end();
    if (rule.permit && !acceptable) return {false, &rule, "the access rule does not accept the method"};
    return {rule.permit, &rule, rule.permit ? "an access rule permits" : "an access rule denies"};
  }
  return {false, nullptr, "no access rule matches"};
}

Octets reply_message(std::string_view text) {
  Octets out;
  if (text.empty()) return out;
  out.push_back(static_cast<std::uint8_t>(AttributeType::reply_message));
  out.push_back(static_cast<std::uint8_t>(text.size() + wire::kAttributeHeader));
  append(out, view_of(text));
  return out;
}

Octets compose_reply(const plan::User& user, const plan::AccessRule* rule) {
  Octets out = user.reply;
  if (rule == nullptr) return out;
  std::bitset<256> taken;
  for (std::size_t at = 0; at < out.size(); at += out[at + 1]) taken.set(out[at]);
  taken.reset(static_cast<std::uint8_t>(AttributeType::vendor_specific));
  for (std::size_t at = 0; at < rule->reply.size(); at += rule->reply[at + 1]) {
    if (!taken[rule->reply[at]]) append(out, OctetView(rule->reply).subspan(at, rule->reply[at + 1]));
  }
  append(out, reply_message(rule->message));
  return out;
}

std::vector<std::string> text_of(const Trail& trail, const plan::Plan& plan, const Request& request,
                                 const Way& way, const plan::User* user) {
  const condition::Facts facts = facts_of(plan, request, way, user);
  std::vector<std::string> out;
  for (const Step& step : trail) {
    const bool route = step.what == Step::What::route;
    const std::string& name = route ? plan.routes[step.rule].name : plan.access_rules[step.rule].name;
    const condition::Condition* when =
        route ? &plan.routes[step.rule].when
              : (plan.access_rules[step.rule].when ? &*plan.access_rules[step.rule].when : nullptr);
    std::string line = fmt::format("{} {} '{}': {}", route ? "route" : "access rule", step.rule + 1, name,
                                   step.matched ? "yes" : "no");
    if (when == nullptr) {
      line += ", it always matches";
    } else {
      const condition::Test& test = when->tests()[step.decided_by];
      line += fmt::format(", {} ({})", when->text_of(test), condition::actual_text(test, facts));
    }
    out.push_back(std::move(line));
  }
  return out;
}

}  // namespace jembatan::decide
