#include "server/event_text.h"

#include <fmt/format.h>

#include "base/text.h"
#include "decide/factor.h"
#include "decide/nearest.h"
#include "decide/reasons.h"
#include "identity/methods.h"

namespace jembatan::server {

using engine::Event;

std::string subject_text(const Event& event) {
  if (!event.user.empty()) return "user " + escaped(event.user);
  if (decide::is_of_replies(event.outcome)) {
    return event.server.empty() ? fmt::format("server {}", event.source.text()) : "server " + event.server;
  }
  if (event.client.empty()) return fmt::format("client {}", event.source.address.text());
  return fmt::format("client {} ({})", event.source.address.text(), event.client);
}

namespace {

// The directory of the user's realm.
std::string look_into_directory(const Event& event, const About& about) {
  const plan::Plan& plan = *event.story->live->plan;
  const plan::Realm* realm = plan.realm_named(event.realm);
  if (realm == nullptr || !realm->directory) return {};
  return fmt::format("look closer: jembatan directory check {} --user {} {}",
                     plan.directories[*realm->directory].name, escaped(event.name), about.node);
}

}  // namespace

std::string look_at(const std::string& server, const About& about) {
  return fmt::format("look at it: jembatan server check {} {}", server, about.node);
}

std::string mend_of(const Event& event, const About& about) {
  if (event.outcome == engine::Outcome::accepted || event.outcome == engine::Outcome::accounted) return {};
  const bool by_commands = about.node == about.plan;
  const auto of_client = [&](const std::string& client, const std::string& command, const std::string& key) {
    return by_commands ? fmt::format("jembatan client {} {}", command, about.node)
                       : fmt::format("'{}' of client '{}' in {}", key, client, about.plan.substr(7));
  };
  const auto in_plan = [&](const std::string& command, const std::string& key) {
    return of_client(event.client, command, key);
  };
  const auto compare = [&] {
    return fmt::format("compare with: jembatan client secret show {} {}", event.client, about.node);
  };
  switch (event.outcome) {
    case engine::Outcome::unknown_client:
      return fmt::format("to let it in: jembatan client add NAME --address {} {}",
                         event.source.address.text(), about.plan);
    case engine::Outcome::client_off:
      return "to switch it on: " + in_plan("enable " + event.client, "enabled = true");
    case engine::Outcome::wrong_signature:
      return compare();
    case engine::Outcome::unsigned_request:
      return "if it cannot sign: " +
             in_plan(fmt::format("set {} message_authenticator=if-present", event.client),
                     "message_authenticator = \"if-present\"");
    case engine::Outcome::over_limit:
      return "if it may: " +
             in_plan(fmt::format("set {} requests_per_second=NUMBER", event.client), "requests_per_second");
    case engine::Outcome::wrong_listener:
      return "if it may: " + in_plan(fmt::format("set {} listeners=", event.client), "listeners");
    default:
      break;
  }
  if (event.because == decide::kMayNot)
    return "if it may: " + in_plan(fmt::format("set {} {}='[\"REALM\"]'", event.client, event.detail),
                                   event.detail + " = [\"REALM\"]");
  if (event.because == decide::kTakesNoSuchRequests)
    return "if it does: " + of_client(event.detail,
                                      fmt::format("set {} authorization_port=3799", event.detail),
                                      "authorization_port = 3799");
  if (event.because == decide::kUnreadableHere || event.because == decide::kSentOnUnreadable)
    return compare();
  if (event.story == nullptr) return {};
  const plan::Plan& plan = *event.story->live->plan;
  if (event.because == decide::kNoAnswer) {
    const plan::Group& group = plan.groups[event.story->group];
    return look_at(fmt::format("{}/{}", group.name, group.servers.front().name), about);
  }
  if (event.because == decide::kDirectorySilent || event.because == decide::kNotInDirectory)
    return look_into_directory(event, about);
  const std::string user = escaped(event.name.empty() ? event.user : event.name);
  if (event.because == decide::kNotEnrolled)
    return by_commands ? fmt::format("to give one: jembatan user factor enrol {} {}", user, about.node)
                       : "an [[enrolment]] in " + about.plan.substr(7);
  if (event.because == decide::kCodesLocked)
    return fmt::format("to look at them again: jembatan user unlock {} {}", user, about.node);
  if (event.because == decide::kNoRealm) return decide::nearest_text(plan.realms, event.realm);
  if (event.because == identity::kNoUser) return decide::nearest_text(plan.users, event.user);
  return {};
}

std::string took_text(std::chrono::microseconds took) {
  if (took.count() < 10000) {
    const auto tenths = (took.count() + 50) / 100;
    return fmt::format("{}.{}ms", tenths / 10, tenths % 10);
  }
  return fmt::format("{}ms", took.count() / 1000);
}

std::string log_text(const Event& event) {
  fmt::memory_buffer out;
  const auto add = [&out](std::string_view text) { out.append(text); };
  add(subject_text(event));
  add(": ");
  add(engine::name_of(event.outcome));
  if (event.code != wire::Code{}) {
    add(" packet=");
    const std::string_view known = wire::known_name_of(event.code);
    add(known.empty() ? std::string_view(wire::name_of(event.code)) : known);
  }
  if (!event.client.empty()) {
    add(" client=");
    add(event.client);
  }
  fmt::format_to(fmt::appender(out), " from={} id={}", event.source.text(), event.identifier);
  if (!event.server.empty()) {
    add(" server=");
    add(event.server);
  }
  if (event.took.count() > 0) {
    add(" took=");
    add(took_text(event.took));
  }
  add(" (");
  add(reason_text(event));
  add(")");
  if (!event.mend.empty()) {
    add("; ");
    add(event.mend);
  }
  return fmt::to_string(out);
}

std::string log_json(const Event& event) {
  std::string out = fmt::format(R"("outcome":"{}","from":"{}","id":{})", engine::name_of(event.outcome),
                                event.source.text(), event.identifier);
  const auto add = [&out](std::string_view key, const std::string& value) {
    if (!value.empty()) out += fmt::format(R"(,"{}":{})", key, json_quoted(value));
  };
  if (event.code != wire::Code{}) add("packet", wire::name_of(event.code));
  add("client", event.client);
  add("user", event.user);
  add("server", event.server);
  out += fmt::format(R"(,"took_us":{})", event.took.count());
  add("reason", reason_text(event));
  add("mend", event.mend);
  return out;
}

}  // namespace jembatan::server
