#include "decide/telling.h"

#include <fmt/format.h>

#include "base/text.h"
#include "decide/nearest.h"
#include "decide/reasons.h"
#include "dictionary/describe.h"

namespace jembatan::decide {
namespace {

std::string step_text(const plan::Plan& plan, const condition::Facts& facts, const Step& step) {
  const bool route = step.what == Step::What::route;
  const std::string& name = route ? plan.routes[step.rule].name : plan.access_rules[step.rule].name;
  const condition::Condition* when =
      route ? &plan.routes[step.rule].when
            : (plan.access_rules[step.rule].when ? &*plan.access_rules[step.rule].when : nullptr);
  const std::string line = fmt::format("{} {} '{}': {}", route ? "route" : "access rule", step.rule + 1, name,
                                       step.matched ? "yes" : "no");
  if (step.decided_by == Step::kOtherProof) {
    const bool client = plan.access_rules[step.rule].proof == plan::Proof::client;
    return line + (client ? ", it looks at requests that prove nothing (proof = client)"
                          : ", it looks at proved users alone (proof = password)");
  }
  return line + (when == nullptr ? ", it always matches" : ", " + when->text_of(step.decided_by, facts));
}

}  // namespace

void Telling::client(const plan::Client& client, const std::optional<IpAddress>& from) {
  std::string line = fmt::format("client '{}' ({})", client.name, client.address.text());
  if (from && client.address.length < from->bits())
    line += fmt::format(": the longest prefix that holds {}", from->text());
  say(std::move(line));
}

// In brackets, behind a name that is not there; of a request that came, whoever tells its story says it.
template <class Named>
std::string Telling::nearest_in(const std::vector<Named>& all, std::string_view wanted) const {
  const auto near = of_ == Of::assumed ? nearest_text(all, wanted, all.size()) : "";
  return near.empty() ? "" : fmt::format(" ({})", near);
}

void Telling::way(const Request& request, const Way& way, const Trail& trail) {
  const plan::Plan& plan = request.plan;
  say(name_text(plan, way));
  rules(plan, facts_of(request, way, nullptr), trail);
  if (way.route == nullptr) realm_table(plan, way);
  if (const plan::Mirror* mirror = mirror_of(plan, way); mirror != nullptr && !request.accounting)
    say(fmt::format("mirror: {} also {} to group '{}', and who asks sees nothing of that",
                    mirror->percent == 100 ? "it" : fmt::format("{} % of such requests", mirror->percent),
                    mirror->percent == 100 ? "goes" : "go", plan.groups[mirror->group].name));
}

void Telling::realm_table(const plan::Plan& plan, const Way& way) {
  if (plan.routes.empty()) say("the plan has no routes: the realm decides");
  if (way.entry != nullptr) {
    say(fmt::format("realm table: '{}' matches", way.entry->name));
  } else if (way.realm.empty()) {
    say("realm table: there is no realm: realm_default.missing decides");
  } else {
    say(fmt::format("realm table: '{}' is not there{}: realm_default.unknown decides", escaped(way.realm),
                    nearest_in(plan.realms, way.realm)));
  }
}

void Telling::rules(const plan::Plan& plan, const condition::Facts& facts, const Trail& trail) {
  for (const Step& step : trail) say(step_text(plan, facts, step));
}

void Telling::nothing_proved(const plan::Plan& plan, const Way& way, bool known) {
  say("proof: the request proves nothing: access rules with proof = client may let it in");
  if (!known && directory_of(plan, way) == nullptr) no_user(plan, way);
}

void Telling::method(std::string_view method) {
  say(fmt::format("method: {}", method));
}

void Telling::no_user(const plan::Plan& plan, const Way& way) {
  say(fmt::format("users: '{}' is not there{}", escaped(way.full_name),
                  nearest_in(plan.users, way.full_name)));
}

void Telling::person(const plan::Directory& directory, const Way& way, const Person& person) {
  const std::string where = person.server.empty() ? "" : fmt::format(" ({})", person.server);
  const std::string begin = fmt::format("directory '{}'{}: ", directory.name, where);
  switch (person.found) {
    case Person::Found::no_answer:
      return say(begin + "no answer: " + person.why);
    case Person::Found::nobody:
      return say(begin + fmt::format("'{}' is not there", escaped(way.full_name)));
    case Person::Found::several:
      return say(begin + fmt::format("several entries are '{}'", escaped(way.full_name)));
    case Person::Found::one:
      break;
  }
  say(begin +
      fmt::format("{}, {}", escaped(person.name),
                  person.groups.empty() ? "in no group" : "in '" + join(person.groups, "', '") + "'"));
  for (const auto& [name, value] : person.attributes) say(fmt::format("  {} is '{}'", name, escaped(value)));
  if (const auto barred = reason_of(person.account); !barred.empty()) say("  " + std::string(barred));
}

void Telling::proof(const plan::Plan& plan, const Way& way, bool known, const std::string& why_not) {
  if (!known) return no_user(plan, way);
  if (of_ == Of::assumed) {
    say(fmt::format("password: taken for {}", why_not.empty() ? "right" : "wrong"));
  } else {
    say(fmt::format("password: {}", why_not.empty() ? "right" : why_not));
  }
}

void Telling::resumed(const Resumed& so_far) {
  say(fmt::format("goes on with the conversation of '{}', who has proved {}; asked for: '{}'{}",
                  escaped(so_far.user),
                  so_far.proven.empty() ? "nothing here (the client vouches)" : so_far.proven, so_far.asked,
                  so_far.tries == 0 ? "" : ", after " + counted(so_far.tries, "wrong code")));
}

void Telling::factor(const FactorProof& proof) {
  say(fmt::format("second factor '{}': {}", proof.factor,
                  proof.right ? proof.detail : with_detail(proof.because, proof.detail)));
}

void Telling::reply(const plan::Plan& plan, const std::vector<ReplyPart>& parts) {
  static constexpr std::string_view kKinds[] = {"user", "access rule", "reply set", "directory"};
  for (const ReplyPart& part : parts) {
    const std::string_view kind = kKinds[static_cast<std::size_t>(part.from)];
    reply(plan, part.attributes, kind, part.owner);
    if (!part.left_out.empty())
      say(fmt::format("reply: {} is left out, {}  from {} '{}'", part.what->name, part.left_out, kind,
                      part.owner));
  }
}

void Telling::reply(const plan::Plan& plan, OctetView attributes, std::string_view kind,
                    std::string_view owner) {
  for (const auto& line : dictionary::describe(*plan.catalogue, attributes)) {
    if (line.definition == nullptr || line.definition->type != dictionary::DataType::vsa)
      say(fmt::format("reply: {} {}  from {} '{}'", line.name, line.value, kind, owner));
  }
}

// A device without one goes to a place where nobody meant it to be.
void Telling::missing_vlan(const plan::Plan& plan, OctetView attributes) {
  if (plan.vlan_giver.empty() ||
      wire::has_attribute(attributes, wire::AttributeType::tunnel_private_group_id))
    return;
  say(fmt::format("reply: neither user nor rule gives a VLAN here ({} does)", plan.vlan_giver));
}

std::string name_text(const plan::Plan& plan, const Way& way) {
  const auto& forms = plan.sign_in.name_forms;
  std::string out = fmt::format("name '{}'", escaped(way.name));
  std::vector<std::string> tried;
  for (std::size_t i = 0; i < std::min(way.form, forms.size()); ++i)
    tried.push_back(fmt::format("not {}", identity::name_of(forms[i])));
  if (way.form != Way::kNoForm) tried.emplace_back(identity::name_of(forms[way.form]));
  if (forms.size() > 1) out += fmt::format(" ({})", join(tried, ", "));
  out += fmt::format(": user '{}'", escaped(way.user));
  out += way.realm.empty() ? ", no realm" : fmt::format(", realm '{}'", escaped(way.realm));
  if (!way.alias.empty()) out += fmt::format(" by its other name '{}'", way.alias);
  if (!way.name_to_send.empty()) out += fmt::format("; the plan makes it '{}'", escaped(way.name_to_send));
  return out;
}

}  // namespace jembatan::decide
