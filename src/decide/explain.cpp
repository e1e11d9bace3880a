#include "decide/explain.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "decide/reasons.h"

namespace jembatan::decide {
namespace {

using Kind = Explanation::Outcome;

std::vector<std::string> names_of(std::span<const std::string_view> names) {
  return {names.begin(), names.end()};
}

class Explainer {
 public:
  Explainer(const Request& request, const Assumed& assumed)
      : plan_(request.plan),
        assumed_(assumed),
        course_(request, HiddenValues::for_nobody(), random_, &telling_) {}

  Explanation run(const plan::Client& client) {
    telling_.client(client);
    if (client.enabled) {
      next(course_.begin());
    } else {
      end(Kind::drop, "dropped: the client is switched off (client-off)");
    }
    out_.lines = std::move(telling_.lines);
    return std::move(out_);
  }

 private:
  void end(Kind outcome, std::string summary) {
    out_.outcome = outcome;
    out_.summary = std::move(summary);
  }

  void next(const Next& step) {
    switch (step.what) {
      case Next::What::reply:
        if (step.code == wire::Code::access_accept) return end(Kind::accept, "accepted: " + why(step.ending));
        return end(Kind::reject, "rejected: " + why(step.ending));
      case Next::What::drop:
        return end(Kind::ignore, "ignored: " + why(step.ending));
      case Next::What::look_up:
        return look_up();
      case Next::What::prove:
        return prove();
      case Next::What::factor:
        return factor();
      case Next::What::record:
        return record();
      case Next::What::ask:
        return ask();
    }
  }

  // The reason in words, with the rule that it comes from.
  static std::string why(const Ending& ending) {
    if (ending.about == Ending::About::realm) return std::string(ending.because);
    if (ending.about == Ending::About::rule) return by_rule(ending.because, &ending.detail);
    return with_detail(ending.because, ending.detail);
  }
  static std::string by_rule(std::string_view because, const std::string* rule) {
    return rule == nullptr ? std::string(because) : fmt::format("{} ('{}')", because, *rule);
  }
  std::string by_way() const {
    const plan::Route* route = course_.way().route;
    return by_rule(course_.way().because, route == nullptr ? nullptr : &route->name);
  }

  void look_up() {
    if (assumed_.person) return next(course_.on(assumed_.person));
    Person person;
    person.found = assumed_.found;
    person.why = "taken for granted";
    person.name = "taken for somebody who is there";
    person.groups = assumed_.groups;
    next(course_.on(std::make_shared<const Person>(std::move(person))));
  }

  void prove() {
    if (const Person* person = course_.person(); person != nullptr && person->found != Person::Found::one)
      return next(course_.on(
          Proof{false, person->found == Person::Found::several ? kSeveralInDirectory : kNotInDirectory}));
    const plan::User* user = course_.user();
    const std::string_view method = course_.way().credential.method;
    if (!assumed_.proven) return next(course_.on(Proof{false, "wrong password"}));
    if (user == nullptr || identity::can_prove(user->password.form(), method))
      return next(course_.on(Proof{true}));
    telling_.say(fmt::format("password: what is kept of it proves {}, not {}",
                             join(names_of(identity::methods_of(user->password.form())), ", "), method));
    next(course_.on(Refusal{{Outcome::rejected, "the method cannot be proved here"}}));
  }

  void factor() {
    const std::string& name = plan_.factors[course_.factor()].name;
    out_.factors.push_back(name);
    if (const auto locked = assumed_.factors_locked.find(name); locked != assumed_.factors_locked.end())
      return next(course_.on(FactorProof{name, false, kCodesLocked, locked->second}));
    if (plan_.tokens_of(course_.way().full_name, course_.factor()).empty())
      return next(course_.on(FactorProof{name, false, kNotEnrolled}));
    const char* words = assumed_.factors_right ? "taken for right" : "taken for granted";
    next(course_.on(FactorProof{name, assumed_.factors_right, kWrongCode, words}));
  }

  void record() {
    for (const std::size_t group : course_.way().accounting.groups) send_to(group);
    (void)course_.on(Kept{});
    end(Kind::record,
        fmt::format("recorded: {}; {}", accounting_text(plan_, course_.way().accounting), by_way()));
  }

  void ask() {
    const std::size_t group = course_.way().destination.group;
    send_to(group);
    end(Kind::forward, fmt::format("forwarded to group '{}': {}", plan_.groups[group].name, by_way()));
  }

  // Nobody knows which server it would be: the first of those that are asked first.
  void send_to(std::size_t group) {
    const auto& servers = plan_.groups[group].servers;
    const auto first =
        std::min_element(servers.begin(), servers.end(),
                         [](const auto& one, const auto& other) { return one.priority < other.priority; });
    (void)course_.to_send(group, *first);
  }

  const plan::Plan& plan_;
  const Assumed& assumed_;
  NoRandom random_;
  Telling telling_{Telling::Of::assumed};
  Course course_;
  Explanation out_;
};

}  // namespace

std::string_view name_of(Explanation::Outcome outcome) {
  static constexpr std::string_view kNames[] = {"accept", "reject", "forward", "ignore", "record", "drop"};
  return kNames[static_cast<std::size_t>(outcome)];
}

Result<Assumed> assumed_in(std::string_view text) {
  constexpr std::string_view kGroup = "group=";
  Assumed out;
  for (const std::string_view part : text.empty() ? std::vector<std::string_view>{} : split(text, ',')) {
    const std::string_view one = trim(part);
    if (one == "proven") {
      out.proven = true;
    } else if (one == "refused") {
      out.proven = false;
    } else if (one == "factor=refused") {
      out.factors_right = false;
    } else if (one == "directory=down") {
      out.found = Person::Found::no_answer;
    } else if (one == "directory=nobody") {
      out.found = Person::Found::nobody;
    } else if (one.starts_with(kGroup) && one.size() > kGroup.size()) {
      out.groups.emplace_back(one.substr(kGroup.size()));
    } else {
      return fail(Errc::malformed, fmt::format("'{}'; allowed: {}", escaped(one), kAssumptions));
    }
  }
  return out;
}

Explanation explain(const Request& request, const Assumed& assumed) {
  return Explainer(request, assumed).run(request.client);
}

}  // namespace jembatan::decide
