// jembatan directory: where people are who are not in the plan.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/objects.h"
#include "cli/secrets.h"
#include "plan/directory.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string proves_note(const json& object) {
  using Passwords = plan::Directory::Passwords;
  const json passwords = object.value("passwords", json("bind"));
  const Passwords kept = !passwords.is_object()        ? Passwords::bind
                         : passwords.contains("clear") ? Passwords::clear
                                                       : Passwords::nt;
  const auto methods = identity::methods_of(plan::form_of(kept));
  return fmt::format("# what it says of passwords proves: {}", join({methods.begin(), methods.end()}, ", "));
}

const Listing& directories() {
  static const Listing all{
      "directory",
      {"directory", "servers", "base", "filter", "groups"},
      [](const json& object) {
        const std::string searched = object.contains("group_base") ? "searched for" : "-";
        return std::vector<std::string>{cell(object, "name", 20), cut(list_text(object, "servers"), 50),
                                        cell(object, "base", 40), cell(object, "filter", 40),
                                        object.value("member_of", searched)};
      },
      "crew",
      "keep=10m",
      proves_note};
  return all;
}

void print_standing(const json& rows, Terminal& out) {
  Table table(
      {"directory", "server", "state", "since (UTC)", "looked up", "by memory", "unanswered", "waiting"});
  for (const json& row : rows) {
    const auto count = [&row](const char* key) { return std::to_string(row.value(key, std::uint64_t{0})); };
    bool first = true;
    for (const json& server : row.at("servers")) {
      const json& since = server.at("since");
      table.add({first ? row.value("name", "") : "", server.value("url", ""), server.value("state", ""),
                 since.is_string() ? short_time(since.get<std::string>()) : "-",
                 first ? count("looked_up") : "", first ? count("by_memory") : "",
                 first ? count("unanswered") : "", first ? count("waiting") : ""});
      first = false;
    }
  }
  out.table(table);
  for (const json& row : rows) {
    for (const json& server : row.at("servers"))
      if (server.value("state", "") == "down")
        out.line(
            out.coloured(fmt::format("{} cannot be asked: {}; look closer: jembatan directory check {}",
                                     server.value("url", ""), server.value("why", ""), row.value("name", "")),
                         Colour::bad));
  }
}

Exit status(const Arguments& arguments, Terminal& terminal) {
  return list_rows(arguments, terminal, QueryParts{},
                   {"/v1/directories", "directories", print_standing, "the plan has no directory"});
}

void print_check(const json& body, Terminal& out) {
  std::string server;
  for (const json& step : body.at("steps")) {
    if (step.value("server", "") != server) out.line(server = step.value("server", ""));
    const std::string verdict = step.value("verdict", "");
    const Colour colour = verdict == "good" ? Colour::good : verdict == "bad" ? Colour::bad : Colour::warn;
    const char* sign = verdict == "good" ? "ok" : verdict == "bad" ? "NO" : "?";
    out.line(fmt::format("  {} {:11} {}", out.coloured(fmt::format("{:2}", sign), colour),
                         step.value("step", ""), step.value("text", "")));
    for (const std::string& line :
         wrapped(step.value("advice", ""), std::max<std::size_t>(out.width(), 60) - 17))
      if (!line.empty()) out.line(fmt::format("                 {}", line));
  }
}

Exit check(const Arguments& arguments, Terminal& terminal) {
  json wish{{"directory", arguments.positionals().front()}};
  if (arguments.has("--user")) wish["user"] = arguments.get("--user");
  if (arguments.has("--password") || arguments.has("--password-file")) {
    if (!arguments.has("--user"))
      return report(fail(Errc::malformed, "whose password? --user NAME"), terminal);
    const auto password =
        arguments.has("--password-file")
            ? secret_in_file(arguments.get("--password-file"))
            : typed_secret("password of " + arguments.get("--user"), "give --password-file FILE");
    if (!password) return report(password.error(), terminal);
    wish["password"] = text_of(password->reveal());
  }
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/directories/check", wish);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    print_check(*body, terminal);
  }
  return body->value("right", false) ? Exit::done : Exit::no;
}

Exit forget(const Arguments& arguments, Terminal& terminal) {
  const auto& names = arguments.positionals();
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/directories/forget", {{"user", names.empty() ? "" : names.front()}});
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    terminal.line(fmt::format("{} forgotten: the directory is asked again",
                              counted(body->value("forgotten", std::size_t{0}), "entry")));
  }
  return Exit::done;
}

std::vector<Option> check_options() {
  std::vector<Option> out{{"--user", "NAME", "look for this person, with the realm"},
                          {"--password", "", "ask for the password, and prove it"},
                          {"--password-file", "FILE", "file with the password instead"}};
  for (Option& option : reading_options()) out.push_back(std::move(option));
  return out;
}

}  // namespace

std::vector<Command> directory_commands() {
  return {
      list_command(directories()),
      show_command(directories()),
      add_command(directories()),
      set_command(directories()),
      remove_command(directories()),
      {"directory check",
       "Find out what is wrong with a directory, step by step: name, connection, certificate, account, base, "
       "person, groups, password; the node asks",
       "jembatan directory check crew --user wira@reef.example --lab reef-1",
       check_options(),
       {"NAME", "its name", true, false},
       check},
      {"directory status",
       "Show how the directories answer the node",
       "jembatan directory status --lab reef-1",
       reading_options(),
       {},
       status},
      {"directory forget",
       "Forget who somebody is, and in which groups: the directory is asked again; without a name, everybody",
       "jembatan directory forget wira@reef.example --lab reef-1",
       reading_options(),
       {"USER", "with the realm", false, false},
       forget}};
}

}  // namespace jembatan::cli
