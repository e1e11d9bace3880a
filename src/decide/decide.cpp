#include "decide/decide.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "identity/name.h"
#include "wire/eap.h"

namespace jembatan::decide {

using plan::Handling;
using wire::AttributeType;

namespace {

constexpr std::string_view kNoRule = "no access rule matches";

// RFC 3579 §2.1: User-Name says the same as the identity; where it is missing, that takes its place.
void find_name(const wire::PacketView& packet, Way& way) {
  way.name = wire::text_in(packet.find(AttributeType::user_name));
  if (!way.name.empty()) return;
  way.name = wire::eap_identity(packet).value_or(std::string_view{});
  way.name_to_send = way.name;
}

identity::Name split_name(const plan::Plan& plan, Way& way) {
  const auto& forms = plan.sign_in.name_forms;
  for (std::size_t i = 0; i < forms.size(); ++i) {
    const auto parts = identity::split(way.name, forms[i]);
    if (!parts) continue;
    way.form = i;
    return *parts;
  }
  return {way.name, {}, {}};
}

// The way of a decorated name leads over another realm, unless that one is here: then it goes on to its own.
void follow_decoration(const plan::Plan& plan, const identity::Name& parts, Way& way) {
  const plan::Realm* via = plan.realm_named(parts.via);
  if (via != nullptr && via->access.handling == Handling::here) {
    way.name_to_send = fmt::format("{}@{}", way.user, way.realm);
    return;
  }
  way.user = fmt::format("{}!{}", way.realm, way.user);
  way.realm = parts.via;
}

void take_realm(Way& way, std::string_view realm) {
  way.realm = realm;
  way.name_to_send = fmt::format("{}@{}", way.user, way.realm);
}

void follow_alias(Way& way) {
  const identity::Comparable wanted(way.realm);
  for (const std::string& alias : way.entry->aliases) {
    if (identity::Comparable(alias).text() != wanted.text()) continue;
    way.alias = alias;
    return take_realm(way, way.entry->name);
  }
}

// "alice@" is not "alice": a realm was begun and is missing (RFC 7542 §2.2).
bool half_a_name(const Way& way) {
  return way.realm.empty() && way.name.ends_with('@');
}

// What the realm table says, when no route has decided.
void by_realm(const plan::Plan& plan, Way& way) {
  if (half_a_name(way)) {
    way.destination = {};
    way.because = "the name ends in '@', and no realm follows (RFC 7542 §2.2)";
    return;
  }
  if (way.realm.empty()) {
    way.destination = plan.realm_default.missing;
    way.because = way.full_name.empty() ? "no User-Name" : "the name has no realm";
  } else if (way.entry != nullptr) {
    way.destination = way.entry->access;
    way.accounting = way.entry->accounting;
    if (way.entry->strip) way.name_to_send = way.user;
    way.because = "the plan says so for this realm";
    return;
  } else {
    way.destination = plan.realm_default.unknown;
    way.because = kNoRealm;
  }
  if (way.destination.handling == Handling::forward) way.accounting.groups = {way.destination.group};
  if (plan.realm_default.accounting) way.accounting = *plan.realm_default.accounting;
}

void take(Trail* trail, Step::What what, bool matched, std::size_t rule, std::size_t decided_by) {
  if (trail == nullptr) return;
  trail->push_back({what, matched, static_cast<std::uint16_t>(rule), static_cast<std::uint16_t>(decided_by)});
}

// A trail tells of every rule; without one, only those are looked at that can match.
template <class Decides>
bool first_rule(const condition::RuleIndex& index, std::size_t count, const condition::Facts& facts,
                const Trail* trail, Decides decides) {
  if (trail == nullptr) return index.first(facts, decides);
  for (std::size_t i = 0; i < count; ++i)
    if (decides(i)) return true;
  return false;
}

bool accepts(const plan::AccessRule& rule, std::string_view method) {
  return rule.methods.empty() || rule.proof == plan::Proof::client ||
         std::find(rule.methods.begin(), rule.methods.end(), method) != rule.methods.end();
}

}  // namespace

std::string_view method_of(const Way& way, const Subject* subject) {
  return subject != nullptr && subject->is_proven() ? subject->proven : way.credential.method;
}

condition::Facts facts_of(const Request& request, const Way& way, const Subject* subject) {
  condition::Facts out;
  out.packet = &request.packet;
  out.catalogue = request.plan.catalogue.get();
  out.user = way.user;
  out.realm = way.realm;
  out.client = request.client.name;
  out.listener = request.accounting ? "accounting" : "access";
  out.method = method_of(way, subject);
  out.code = wire::known_name_of(request.packet.code());
  if (way.route != nullptr) out.route = way.route->name;
  out.labels = &request.client.labels;
  out.directory = subject == nullptr ? nullptr : subject->attributes;
  out.groups = subject == nullptr ? nullptr : subject->groups;
  out.sessions = subject == nullptr ? 0 : subject->sessions;
  out.now = request.now;
  return out;
}

Way identify(const Request& request) {
  const plan::Plan& plan = request.plan;
  Way way;
  way.credential = identity::credential_of(request.packet);
  find_name(request.packet, way);
  const identity::Name parts = split_name(plan, way);
  way.user = parts.user;
  way.realm = parts.realm;
  if (!parts.via.empty()) follow_decoration(plan, parts, way);
  if (way.realm.empty() && !way.user.empty() && !half_a_name(way) && !plan.realm_default.assume.empty())
    take_realm(way, plan.realm_default.assume);
  if (!way.realm.empty()) way.entry = plan.realm_named(way.realm);
  if (way.entry != nullptr && !way.entry->aliases.empty()) follow_alias(way);
  way.full_name = way.user;
  if (!way.realm.empty()) way.full_name.append("@").append(way.realm);
  return way;
}

const plan::Directory* directory_of(const plan::Plan& plan, const Way& way) {
  if (way.entry == nullptr || !way.entry->directory) return nullptr;
  return &plan.directories[*way.entry->directory];
}

const plan::Mirror* mirror_of(const plan::Plan& plan, const Way& way) {
  if (way.destination.handling != Handling::forward) return nullptr;
  if (way.route != nullptr && way.route->mirror) return &*way.route->mirror;
  const auto& mirror = plan.groups[way.destination.group].mirror;
  return mirror ? &*mirror : nullptr;
}

Way find_way(const Request& request, Trail* trail) {
  Way way = identify(request);
  const condition::Facts facts = facts_of(request, way, nullptr);
  const auto& routes = request.plan.routes;
  const auto decides = [&](std::size_t i) {
    const plan::Route& route = routes[i];
    if (request.accounting ? !route.accounting : !route.access) return false;
    std::size_t decided_by = 0;
    const bool matched = route.when.holds(facts, &decided_by);
    take(trail, Step::What::route, matched, i, decided_by);
    if (matched) way.route = &route;
    return matched;
  };
  if (first_rule(request.plan.route_index, routes.size(), facts, trail, decides)) {
    way.destination = way.route->destination;
    if (way.destination.handling == Handling::forward) way.accounting.groups = {way.destination.group};
    way.because = "a route says so";
    return way;
  }
  by_realm(request.plan, way);
  return way;
}

std::string_view why_shut_out(const Subject& subject, const Request& request) {
  const WallTime now = request.now;
  if (!subject.barred.empty()) return subject.barred;
  if (!subject.enabled) return "the user is switched off";
  if (subject.valid_from && now < *subject.valid_from) return "the user is not valid yet";
  if (subject.valid_until && now >= *subject.valid_until) return "the user has expired";
  if (subject.clients == nullptr || subject.clients->empty()) return {};
  const auto& clients = *subject.clients;
  if (std::find(clients.begin(), clients.end(), request.client.name) == clients.end()) return kNotFromHere;
  return {};
}

std::string detail_of(const Admission& admission, std::string_view method, WallTime now) {
  if (admission.rule == nullptr)
    return admission.because == kNoRule ? fmt::format("{}, {}", method, condition::clock_text({}, now)) : "";
  const plan::AccessRule& rule = *admission.rule;
  if (!rule.permit || accepts(rule, method)) return rule.name;
  return fmt::format("'{}' accepts {}; the request used {}", rule.name, fmt::join(rule.methods, ", "),
                     method);
}

std::string accounting_text(const plan::Plan& plan, const plan::AccountingRule& accounting) {
  std::vector<std::string> names;
  for (const std::size_t group : accounting.groups)
    names.push_back(fmt::format("'{}'", plan.groups[group].name));
  const std::string queued = names.empty() ? "sent to nobody" : "queued for " + jembatan::join(names, ", ");
  return accounting.here ? "kept here, " + queued : queued + ", then not kept here";
}

Admission admit(const Request& request, const Way& way, const Subject& subject, Trail* trail) {
  const auto& rules = request.plan.access_rules;
  const bool proved = subject.is_proven();
  const plan::Proof proof = proved ? plan::Proof::password : plan::Proof::client;
  if (rules.empty() && proved) return {true, nullptr, "password matches"};
  const condition::Facts facts = facts_of(request, way, &subject);
  const plan::AccessRule* decided = nullptr;
  const auto decides = [&](std::size_t i) {
    const plan::AccessRule& rule = rules[i];
    if (rule.proof != proof) {
      take(trail, Step::What::access, false, i, Step::kOtherProof);
      return false;
    }
    std::size_t decided_by = 0;
    const bool matched = !rule.when || rule.when->holds(facts, &decided_by);
    take(trail, Step::What::access, matched, i, decided_by);
    if (matched) decided = &rule;
    return matched;
  };
  if (first_rule(request.plan.access_index, rules.size(), facts, trail, decides)) {
    if (decided->permit && !accepts(*decided, facts.method))
      return {false, decided, "the access rule does not accept the method"};
    return {decided->permit, decided, decided->permit ? "an access rule permits" : "an access rule denies"};
  }
  return {false, nullptr,
          proved ? kNoRule : "nothing is proved, and no access rule with proof = client matches"};
}

}  // namespace jembatan::decide
