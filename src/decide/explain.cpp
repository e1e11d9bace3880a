#include "decide/explain.h"

#include <fmt/format.h>

#include "base/text.h"
#include "decide/compose.h"
#include "decide/nearest.h"
#include "dictionary/describe.h"
#include "wire/builder.h"

namespace jembatan::decide {
namespace {

using Outcome = Explanation::Outcome;
using plan::EditPoint;
using plan::Handling;

// In brackets, behind a name that is not there; of a request that came, whoever tells its story says it.
template <class Named>
std::string nearest_in(const std::vector<Named>& all, std::string_view wanted, bool a_person_asks) {
  const auto near = a_person_asks ? nearest_text(all, wanted, all.size()) : "";
  return near.empty() ? "" : fmt::format(" ({})", near);
}

std::vector<std::string> names_of(std::span<const std::string_view> names) {
  return {names.begin(), names.end()};
}

class Explainer {
 public:
  Explainer(const Request& request, const Known& known)
      : plan_(request.plan), received_(request), known_(known) {}

  Explanation run() {
    client_line();
    if (!received_.client.enabled) {
      end(Outcome::drop, "dropped: the client is switched off (client-off)");
      return std::move(out_);
    }
    if (const auto edited = edit(EditPoint::received, received_facts())) {
      octets_ = *edited;
      edited_.emplace(*wire::PacketView::parse(octets_));
    }
    const Request request{plan_, edited_ ? *edited_ : received_.packet, received_.client,
                          received_.accounting, received_.now};
    way_ = find_way(request, &trail_);
    say(name_text(plan_, way_));
    trail_lines(request, nullptr);
    if (way_.route == nullptr) realm_line();
    if (request.accounting) {
      record(request);
    } else {
      decide(request);
    }
    return std::move(out_);
  }

 private:
  void say(std::string line) { out_.lines.push_back(std::move(line)); }
  void end(Outcome outcome, std::string summary) {
    out_.outcome = outcome;
    out_.summary = std::move(summary);
  }

  void client_line() {
    const plan::Client& client = received_.client;
    std::string line = fmt::format("client '{}' ({})", client.name, client.address.text());
    if (known_.from && client.address.length < known_.from->bits())
      line += fmt::format(": the longest prefix that holds {}", known_.from->text());
    say(std::move(line));
  }

  condition::Facts received_facts() {
    way_ = identify(received_);
    return facts_of(received_, way_, plan_.user_named(way_.full_name));
  }

  std::optional<Octets> edit(EditPoint point, const condition::Facts& facts) {
    if (!plan_.has_edits[static_cast<std::size_t>(point)]) return std::nullopt;
    return apply_edits(plan_, point, facts, known_.hidden, &out_.lines);
  }

  void trail_lines(const Request& request, const plan::User* user) {
    for (std::string& line : text_of(trail_, request, way_, user)) say(std::move(line));
    trail_.clear();
  }

  void realm_line() {
    if (plan_.routes.empty()) say("the plan has no routes: the realm decides");
    if (way_.entry != nullptr) {
      say(fmt::format("realm table: '{}' matches", way_.entry->name));
    } else if (way_.realm.empty()) {
      say("realm table: there is no realm: realm_default.missing decides");
    } else {
      say(fmt::format("realm table: '{}' is not there{}: realm_default.unknown decides", escaped(way_.realm),
                      nearest_in(plan_.realms, way_.realm, !known_.from)));
    }
  }

  // The reason in words, with the rule that it comes from.
  static std::string reason(std::string_view because, const std::string* rule) {
    return rule == nullptr ? std::string(because) : fmt::format("{} ('{}')", because, *rule);
  }

  void record(const Request& request) {
    for (const std::size_t group : way_.accounting.groups) forward_edits(request, group);
    const bool ignored = way_.route != nullptr && way_.destination.handling == Handling::ignore;
    if (ignored) return end(Outcome::ignore, "ignored: " + reason(way_.because, &way_.route->name));
    replied(request, wire::Code::accounting_response, {});
    end(Outcome::record,
        fmt::format("recorded: {}; {}", accounting_text(plan_, way_.accounting),
                    reason(way_.because, way_.route == nullptr ? nullptr : &way_.route->name)));
  }

  void decide(const Request& request) {
    const std::string why = reason(way_.because, way_.route == nullptr ? nullptr : &way_.route->name);
    const std::string problem = credential_of(request.packet).problem;
    if (!problem.empty() && way_.destination.handling != Handling::ignore)
      return refuse(request, "the request contradicts itself: " + problem);
    switch (way_.destination.handling) {
      case Handling::forward: {
        const std::string& group = plan_.groups[way_.destination.group].name;
        forward_edits(request, way_.destination.group);
        return end(Outcome::forward, fmt::format("forwarded to group '{}': {}", group, why));
      }
      case Handling::ignore:
        return end(Outcome::ignore, "ignored: " + why);
      case Handling::refuse: {
        const Octets message = reply_message(way_.route != nullptr ? way_.route->message : "");
        if (!message.empty()) reply_lines(message, fmt::format("route '{}'", way_.route->name));
        replied(request, wire::Code::access_reject, message);
        return end(Outcome::reject, "rejected: " + why);
      }
      case Handling::here:
        return prove(request);
    }
  }

  void forward_edits(const Request& request, std::size_t group) {
    condition::Facts facts = facts_of(request, way_, plan_.user_named(way_.full_name));
    facts.group = plan_.groups[group].name;
    (void)edit(EditPoint::forwarding, facts);
  }

  void prove(const Request& request) {
    const std::string_view method = method_of(request.packet);
    const plan::User* user = plan_.user_named(way_.full_name);
    if (method == "none") {
      say("proof: the request proves nothing: access rules with proof = client may let it in");
      if (user == nullptr) no_user();
      const auto because = user == nullptr ? "" : why_shut_out(*user, request);
      if (!because.empty()) return refuse(request, because);
      return admit_or_refuse(request, {user, plan::Proof::client});
    }
    if (!answered_here(method)) {
      say(fmt::format("method: {}", method));
      return refuse(request, fmt::format("{} ({})", kNotAnswered, method));
    }
    if (user == nullptr) {
      no_user();
      return refuse(request, known_.assume == Assume::refused ? known_.because : "no such user here");
    }
    if (known_.assume == Assume::proven && !identity::can_prove(user->password.form(), method)) {
      say(fmt::format("password: what is kept of it proves {}, not {}",
                      join(names_of(identity::methods_of(user->password.form())), ", "), method));
      return refuse(request, "the method cannot be proved here");
    }
    say(fmt::format("password: {}", known_.said));
    if (known_.assume == Assume::refused) return refuse(request, known_.because);
    if (const auto because = why_shut_out(*user, request); !because.empty()) return refuse(request, because);
    admit_or_refuse(request, {user});
  }

  void admit_or_refuse(const Request& request, const Candidate& candidate) {
    const Admission admission = admit(request, way_, candidate, &trail_);
    trail_lines(request, candidate.user);
    const std::string detail = detail_of(admission, method_of(request.packet), request.now);
    const bool name_alone = admission.rule != nullptr && detail == admission.rule->name;
    const std::string why = name_alone       ? reason(admission.because, &detail)
                            : detail.empty() ? std::string(admission.because)
                                             : fmt::format("{} ({})", admission.because, detail);
    const wire::Code code = admission.permit ? wire::Code::access_accept : wire::Code::access_reject;
    replied(request, code,
            composed(request, admission.permit ? candidate.user : nullptr, admission.rule, code));
    if (admission.permit) return end(Outcome::accept, "accepted: " + why);
    end(Outcome::reject, "rejected: " + why);
  }

  void no_user() {
    say(fmt::format("users: '{}' is not there{}", escaped(way_.full_name),
                    nearest_in(plan_.users, way_.full_name, !known_.from)));
  }

  void refuse(const Request& request, std::string_view because) {
    replied(request, wire::Code::access_reject, {});
    end(Outcome::reject, fmt::format("rejected: {}", because));
  }

  // Each attribute of a reply, with where it comes from.
  Octets composed(const Request& request, const plan::User* user, const plan::AccessRule* rule,
                  wire::Code code) {
    static constexpr std::string_view kOwners[] = {"user", "access rule", "reply set"};
    std::vector<ReplyPart> parts;
    Octets out = compose_reply(plan_, facts_of(request, way_, user), user, rule, code,
                               dictionary::hide_for_nobody, &parts);
    for (const ReplyPart& part : parts) {
      const std::string from =
          fmt::format("{} '{}'", kOwners[static_cast<std::size_t>(part.from)], part.owner);
      reply_lines(part.attributes, from);
      if (!part.left_out.empty())
        say(fmt::format("reply: {} is left out, {}  from {}", part.what->name, part.left_out, from));
    }
    if (code == wire::Code::access_accept) missing_vlan(out);
    return out;
  }

  // A device without one goes to a place where nobody meant it to be.
  void missing_vlan(const Octets& reply) {
    if (plan_.vlan_giver.empty() || wire::has_attribute(reply, wire::AttributeType::tunnel_private_group_id))
      return;
    say(fmt::format("reply: neither user nor rule gives a VLAN here ({} does)", plan_.vlan_giver));
  }

  void reply_lines(OctetView attributes, const std::string& from) {
    for (const auto& line : dictionary::describe(*plan_.catalogue, attributes)) {
      if (line.definition == nullptr || line.definition->type != dictionary::DataType::vsa)
        say(fmt::format("reply: {} {}  from {}", line.name, line.value, from));
    }
  }

  void replied(const Request& request, wire::Code code, OctetView attributes) {
    if (!plan_.has_edits[static_cast<std::size_t>(EditPoint::replying)]) return;
    wire::PacketBuilder packet(code, 0, {});
    if (!packet.add_encoded(attributes)) return;
    const auto reply = *wire::PacketView::parse(packet.finish());
    condition::Facts facts = facts_of(request, way_, plan_.user_named(way_.full_name));
    facts.packet = &reply;
    facts.code = wire::known_name_of(code);
    (void)apply_edits(plan_, EditPoint::replying, facts, {{}, dictionary::hide_for_nobody}, &out_.lines);
  }

  const plan::Plan& plan_;
  const Request& received_;
  const Known& known_;
  Octets octets_;  // as edited
  std::optional<wire::PacketView> edited_;
  Way way_;
  Trail trail_;
  Explanation out_;
};

}  // namespace

std::string_view name_of(Explanation::Outcome outcome) {
  static constexpr std::string_view kNames[] = {"accept", "reject", "forward", "ignore", "record", "drop"};
  return kNames[static_cast<std::size_t>(outcome)];
}

Known assumed(bool refused) {
  Known out;
  if (!refused) return out;
  out.assume = Assume::refused;
  out.said = "taken for wrong";
  return out;
}

Explanation explain(const Request& request, const Known& known) {
  return Explainer(request, known).run();
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

std::vector<std::string> text_of(const Trail& trail, const Request& request, const Way& way,
                                 const plan::User* user) {
  const plan::Plan& plan = request.plan;
  const condition::Facts facts = facts_of(request, way, user);
  std::vector<std::string> out;
  for (const Step& step : trail) {
    const bool route = step.what == Step::What::route;
    const std::string& name = route ? plan.routes[step.rule].name : plan.access_rules[step.rule].name;
    const condition::Condition* when =
        route ? &plan.routes[step.rule].when
              : (plan.access_rules[step.rule].when ? &*plan.access_rules[step.rule].when : nullptr);
    std::string line = fmt::format("{} {} '{}': {}", route ? "route" : "access rule", step.rule + 1, name,
                                   step.matched ? "yes" : "no");
    if (step.decided_by == Step::kOtherProof) {
      const bool client = plan.access_rules[step.rule].proof == plan::Proof::client;
      line += client ? ", it looks at requests that prove nothing (proof = client)"
                     : ", it looks at proved users alone (proof = password)";
    } else if (when == nullptr) {
      line += ", it always matches";
    } else {
      line += ", " + when->text_of(step.decided_by, facts);
    }
    out.push_back(std::move(line));
  }
  return out;
}

}  // namespace jembatan::decide
