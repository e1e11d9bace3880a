#include "decide/explain.h"

#include <fmt/format.h>

#include "base/text.h"
#include "dictionary/describe.h"

namespace jembatan::decide {
namespace {

using Outcome = Explanation::Outcome;
using plan::Handling;

class Explainer {
 public:
  Explainer(const plan::Plan& plan, const Request& request, Assume assume)
      : plan_(plan), request_(request), assume_(assume) {}

  Explanation run() {
    say(fmt::format("client '{}' ({})", request_.client.name, request_.client.address.text()));
    way_ = find_way(plan_, request_, trail_);
    name_line();
    for (std::string& line : text_of(trail_, plan_, request_, way_, nullptr)) say(std::move(line));
    if (way_.route == nullptr) realm_line();
    trail_.clear();
    if (request_.accounting) {
      record();
    } else {
      decide();
    }
    return std::move(out_);
  }

 private:
  void say(std::string line) { out_.lines.push_back(std::move(line)); }
  void end(Outcome outcome, std::string summary) {
    out_.outcome = outcome;
    out_.summary = std::move(summary);
  }

  void name_line() {
    std::string line = fmt::format(
        "name '{}': user '{}'", escaped(wire::text_in(request_.packet.find(wire::AttributeType::user_name))),
        escaped(way_.user));
    line += way_.realm.empty() ? ", no realm" : fmt::format(", realm '{}'", escaped(way_.realm));
    if (!way_.name_to_send.empty())
      line += fmt::format("; the plan makes it '{}'", escaped(way_.name_to_send));
    say(line);
  }

  void realm_line() {
    if (plan_.routes.empty()) say("the plan has no routes: the realm decides");
    if (way_.entry != nullptr) {
      say(fmt::format("realm table: '{}' matches", way_.entry->name));
    } else if (way_.realm.empty()) {
      say("realm table: there is no realm: realm_default.missing decides");
    } else {
      std::vector<std::string> names;
      for (const plan::Realm& realm : plan_.realms) names.push_back(realm.name);
      const auto near = nearest(way_.realm, names);
      say(fmt::format("realm table: '{}' is not there{}: realm_default.unknown decides", escaped(way_.realm),
                      near ? fmt::format(" (nearest: '{}')", *near) : ""));
    }
  }

  std::string way_name() const {
    switch (way_.destination.handling) {
      case Handling::here:
        return "handled here";
      case Handling::forward:
        return fmt::format("forwarded to group '{}'", plan_.groups[way_.destination.group].name);
      case Handling::refuse:
        return "refused";
      case Handling::ignore:
        return "ignored";
    }
    return "";
  }

  void record() {
    std::string to;
    for (const std::size_t group : way_.accounting.groups)
      to += fmt::format(", sent to group '{}'", plan_.groups[group].name);
    const bool ignored = way_.route != nullptr && way_.destination.handling == Handling::ignore;
    end(ignored ? Outcome::ignore : Outcome::record, ignored ? "ignored: a route says so" : "recorded" + to);
  }

  void decide() {
    const std::string reason = way_.route != nullptr
                                   ? fmt::format("{} ('{}')", way_.because, way_.route->name)
                                   : std::string(way_.because);
    switch (way_.destination.handling) {
      case Handling::forward:
        return end(Outcome::forward, fmt::format("{}: {}", way_name(), reason));
      case Handling::ignore:
        return end(Outcome::ignore, fmt::format("ignored: {}", reason));
      case Handling::refuse:
        if (way_.route != nullptr)
          reply_lines(reply_message(way_.route->message), fmt::format("route '{}'", way_.route->name));
        return end(Outcome::reject, fmt::format("rejected: {}", reason));
      case Handling::here:
        return prove();
    }
  }

  void prove() {
    const plan::User* user = plan_.user_named(way_.full_name);
    if (user == nullptr) {
      std::vector<std::string> names;
      for (const plan::User& known : plan_.users) names.push_back(known.name);
      const auto near = nearest(way_.full_name, names);
      say(fmt::format("users: '{}' is not there{}", escaped(way_.full_name),
                      near ? fmt::format("; nearest: '{}'", *near) : ""));
      return end(Outcome::reject, "rejected: no such user here");
    }
    if (const auto because = why_shut_out(*user, request_.now); !because.empty())
      return end(Outcome::reject, fmt::format("rejected: {}", because));
    if (assume_ == Assume::refused) {
      say("password: taken for wrong");
      return end(Outcome::reject, "rejected: wrong password");
    }
    say("password: taken for right");
    const Admission admission = admit(plan_, request_, way_, *user, trail_);
    for (std::string& line : text_of(trail_, plan_, request_, way_, user)) say(std::move(line));
    const std::string reason = admission.rule != nullptr
                                   ? fmt::format("{} ('{}')", admission.because, admission.rule->name)
                                   : std::string(admission.because);
    if (admission.permit) {
      accept_lines(*user, admission.rule);
      return end(Outcome::accept, "accepted: " + reason);
    }
    if (admission.rule != nullptr)
      reply_lines(reply_message(admission.rule->message),
                  fmt::format("access rule '{}'", admission.rule->name));
    end(Outcome::reject, "rejected: " + reason);
  }

  // Each attribute of a reply, with where it comes from.
  void reply_lines(OctetView attributes, const std::string& from) {
    for (const auto& line : dictionary::describe(*plan_.catalogue, attributes))
      say(fmt::format("reply: {} {}  from {}", line.name, line.value, from));
  }

  void accept_lines(const plan::User& user, const plan::AccessRule* rule) {
    reply_lines(user.reply, fmt::format("user '{}'", user.name));
    if (rule == nullptr) return;
    const Octets all = compose_reply(user, rule);
    reply_lines(OctetView(all).subspan(user.reply.size()), fmt::format("access rule '{}'", rule->name));
  }

  const plan::Plan& plan_;
  const Request& request_;
  Assume assume_;
  Way way_;
  Trail trail_;
  Explanation out_;
};

}  // namespace

std::string_view name_of(Explanation::Outcome outcome) {
  static constexpr std::string_view kNames[] = {"accept", "reject", "forward", "ignore", "record"};
  return kNames[static_cast<std::size_t>(outcome)];
}

Explanation explain(const plan::Plan& plan, const Request& request, Assume assume) {
  return Explainer(plan, request, assume).run();
}

}  // namespace jembatan::decide
