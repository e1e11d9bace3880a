// jembatan user, realm, group: who the people are, and where their requests go.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/objects.h"
#include "cli/secrets.h"
#include "cli/user_import.h"
#include "identity/password.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string user_state(const json& object) {
  if (!object.value("enabled", true)) return "no";
  const std::string until = object.value("valid_until", "");
  return until.empty() ? "yes" : "until " + until.substr(0, 10);
}

std::string methods_note(const json& object) {
  using Form = identity::StoredPassword::Form;
  const json password = object.value("password", json::object());
  const std::string kept = password.empty() ? "" : password.begin().key();
  const Form form = kept == "clear"  ? Form::clear
                    : kept == "nt"   ? Form::nt
                    : kept == "hash" ? Form::hash
                                     : Form::none;
  const auto methods = identity::methods_of(form);
  return fmt::format("# what is kept of the password proves: {}",
                     join({methods.begin(), methods.end()}, ", "));
}

const Listing& users() {
  static const Listing all{"user",
                           {"user", "password", "groups", "enabled", "reply"},
                           [](const json& object) {
                             const json password = object.value("password", json::object());
                             return std::vector<std::string>{
                                 cell(object, "name", 34), password.empty() ? "-" : password.begin().key(),
                                 list_text(object, "groups"), user_state(object),
                                 pairs_text(object.value("reply", json::object()))};
                           },
                           "sari@reef.example",
                           "reply.vlan=30",
                           methods_note};
  return all;
}

const Listing& realms() {
  static const Listing all{"realm",
                           {"realm", "handle", "accounting", "strip"},
                           [](const json& object) {
                             return std::vector<std::string>{cell(object, "name", 34),
                                                             cell(object, "handle", 28),
                                                             list_text(object, "accounting"),
                                                             object.value("strip", false) ? "yes" : "no"};
                           },
                           "lagoon.example",
                           "handle=group:lagoon-homes"};
  return all;
}

const Listing& groups() {
  static const Listing all{
      "group",
      {"group", "answer within", "attempts", "servers (priority:weight)"},
      [](const json& object) {
        std::vector<std::string> servers;
        for (const json& server : object.value("server", json::array())) {
          servers.push_back(fmt::format("{} {} ({}:{})", server.value("name", ""),
                                        server.value("address", ""), server.value("priority", 1),
                                        server.value("weight", 1)));
        }
        return std::vector<std::string>{cell(object, "name", 20), object.value("answer_within", "3s"),
                                        std::to_string(object.value("attempts", 2)), join(servers, ", ")};
      },
      "reef-homes",
      "server.reef-1.weight=50"};
  return all;
}

// Typed unseen, or out of a file: a hash of it is kept, or, for methods that need it, the password itself.
Exit change_user(const std::string& what, const Arguments& arguments, Terminal& terminal) {
  json fields = json::object();
  if (const Status read = read_fields(arguments.positionals(), fields); !read)
    return report(read.error(), terminal);
  if (arguments.has("--password") || arguments.has("--password-file")) {
    const auto password =
        arguments.has("--password-file")
            ? secret_in_file(arguments.get("--password-file"))
            : typed_secret("password of " + arguments.positionals().front(), "give --password-file FILE");
    if (!password) return report(password.error(), terminal);
    if (const Status kept =
            keep_password(*password, arguments.has("--clear") ? Keep::clear : Keep::hash, fields);
        !kept)
      return report(kept.error(), terminal);
  }
  return send_change(arguments, terminal, "/v1/plan/change",
                     one_change(what, "user", arguments.positionals().front(), fields));
}

std::vector<Option> password_options() {
  return {{"--password", "", "ask for the password, of which a hash is kept"},
          {"--password-file", "FILE", "file with the password instead"},
          {"--clear", "", "keep the password itself, for methods that need it (CHAP)"}};
}

Command user_command(Command command, const std::string& what) {
  const auto options = password_options();
  command.options.insert(command.options.begin(), options.begin(), options.end());
  command.example =
      fmt::format("jembatan user {} sari@reef.example --password reply.vlan=30 --node node.toml", what);
  command.run = [what](const Arguments& a, Terminal& t) { return change_user(what, a, t); };
  return command;
}

}  // namespace

std::vector<Command> user_commands() {
  return {list_command(users(), {{"--group", "NAME", "only those in this group"},
                                 {"--realm", "NAME", "only those of this realm"}}),
          show_command(users()),
          user_command(add_command(users()), "add"),
          user_command(set_command(users()), "set"),
          switch_command(users(), "enable", "Switch a user on"),
          switch_command(users(), "disable", "Switch a user off: nobody signs in by this name"),
          remove_command(users()),
          user_import_command()};
}

std::vector<Command> sign_in_commands() {
  return single_commands({"sign_in", "sign-in",
                          "how names may be written, and when wrong passwords slow down",
                          "'name_forms=[\"user@realm\", \"realm/user\"]' slow_after=5",
                          "name_forms=…, slow_after=…, slow_at_most=…"});
}

std::vector<Command> realm_commands() {
  std::vector<Command> out{list_command(realms()), show_command(realms()), add_command(realms()),
                           set_command(realms()), remove_command(realms())};
  for (Command& command : single_commands({"realm_default", "realm default",
                                           "what happens to names with an unknown realm, or with none",
                                           "unknown=refuse missing='{ assume = \"harbour.example\" }'",
                                           "unknown=…, missing=…, most_hops=…"}))
    out.push_back(std::move(command));
  return out;
}

std::vector<Command> group_commands() {
  std::vector<Command> out{list_command(groups()), show_command(groups()), add_command(groups()),
                           set_command(groups()), remove_command(groups())};
  for (Command& command : live_group_commands()) out.push_back(std::move(command));
  for (Command& command : server_secret_commands()) out.push_back(std::move(command));
  return out;
}

}  // namespace jembatan::cli
