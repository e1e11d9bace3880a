// jembatan user, realm, group: who the people are, and where their requests go.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/objects.h"
#include "cli/secrets.h"
#include "document/parse.h"
#include "host/system.h"
#include "identity/password.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string user_state(const json& object) {
  if (!object.value("enabled", true)) return "off";
  const std::string until = object.value("valid_until", "");
  return until.empty() ? "on" : "until " + until.substr(0, 10);
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
                           {"user", "password", "reply", "state"},
                           [](const json& object) {
                             const json password = object.value("password", json::object());
                             return std::vector<std::string>{
                                 cell(object, "name", 34), password.empty() ? "-" : password.begin().key(),
                                 pairs_text(object.value("reply", json::object())), user_state(object)};
                           },
                           2,
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
                           2,
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
      3,
      "reef-homes",
      "server.reef-1.weight=50"};
  return all;
}

// --password-file: a hash of what is in it, or, for methods that need it, the password itself.
Exit change_user(const std::string& what, const Arguments& arguments, Terminal& terminal) {
  json fields = json::object();
  if (const Status read = read_fields(arguments.positionals(), fields); !read)
    return report(read.error(), terminal);
  if (arguments.has("--password-file")) {
    const auto text = document::read_file(arguments.get("--password-file"));
    if (!text) return report(text.error(), terminal);
    const Secret password(trim(*text));
    if (arguments.has("--clear")) {
      fields["password.clear"] = std::string(text_of(password.reveal()));
    } else {
      host::SystemRandom random;
      const auto hash = identity::StoredPassword::make_hash(password, random);
      if (!hash) return report(hash.error(), terminal);
      fields["password.hash"] = std::string(text_of(hash->reveal()));
    }
  }
  return send_change(arguments, terminal, "/v1/plan/change",
                     one_change(what, "user", arguments.positionals().front(), fields));
}

Command user_command(Command command, const std::string& what) {
  command.options.insert(command.options.begin(),
                         {{"--password-file", "FILE", "file with the password, of which a hash is kept"},
                          {"--clear", "", "keep the password itself, for methods that need it (CHAP)"}});
  command.example = fmt::format(
      "jembatan user {} sari@reef.example --password-file FILE reply.vlan=30 --node node.toml", what);
  command.run = [what](const Arguments& a, Terminal& t) { return change_user(what, a, t); };
  return command;
}

}  // namespace

std::vector<Command> user_commands() {
  return {list_command(users()),
          show_command(users()),
          user_command(add_command(users()), "add"),
          user_command(set_command(users()), "set"),
          switch_command(users(), "enable", "Switch a user on"),
          switch_command(users(), "disable", "Switch a user off: nobody signs in by this name"),
          remove_command(users())};
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
  for (Command& command : server_secret_commands()) out.push_back(std::move(command));
  return out;
}

}  // namespace jembatan::cli
