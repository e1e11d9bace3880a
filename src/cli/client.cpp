// jembatan client: who may ask.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/client_folder.h"
#include "cli/client_import.h"
#include "cli/listing.h"
#include "cli/objects.h"
#include "cli/secrets.h"
#include "host/system.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string labels_text(const json& object) {
  std::vector<std::string> parts;
  const json labels = object.value("labels", json::object());
  for (const auto& [label, value] : labels.items())
    parts.push_back(label + "=" + (value.is_string() ? value.get<std::string>() : value.dump()));
  return parts.empty() ? "-" : join(parts, " ");
}

std::string address_text(const json& object) {
  const std::string address = object.value("address", "");
  const std::string resolved = object.value("resolved", "");
  return resolved.empty() ? address : address + " = " + resolved;
}

std::string state_text(const json& object) {
  if (!object.value("enabled", true)) return "no";
  return object.contains("old_secret") ? "yes, rotating" : "yes";
}

const Listing& listing() {
  static const Listing all{"client",
                           {"client", "address", "message_authenticator", "enabled", "labels"},
                           [](const json& object) {
                             return std::vector<std::string>{cell(object, "name", 32), address_text(object),
                                                             object.value("message_authenticator", "always"),
                                                             state_text(object), labels_text(object)};
                           },
                           "kerapu-deck-3",
                           "waits=20s"};
  return all;
}

Exit add(const Arguments& arguments, Terminal& terminal) {
  const std::string& name = arguments.positionals().front();
  if (arguments.has("--plan")) {
    const auto address = Prefix::parse(arguments.get("--address"));
    if (!address) return report(address.error().at("--address"), terminal);
    const auto secret = add_to_folder(
        arguments.get("--plan"), name, *address,
        arguments.has("--unsigned") ? plan::SignatureRule::if_present : plan::SignatureRule::always);
    if (!secret) return report(secret.error(), terminal);
    if (arguments.has("--json")) {
      terminal.line(json{{"name", name}, {"address", address->text()}, {"secret_file", *secret}}.dump(2));
    } else {
      terminal.line(
          fmt::format("client {} added with address {}; its new shared secret is in {}\n"
                      "put it into force: jembatan plan reload --node NODE-FILE (or SIGHUP to jembatand)",
                      name, address->text(), *secret));
    }
    return Exit::done;
  }
  json fields = json::object();
  if (const Status read = read_fields(arguments.positionals(), fields); !read)
    return report(read.error(), terminal);
  fields["address"] = arguments.get("--address");
  if (arguments.has("--unsigned")) fields["message_authenticator"] = "if-present";
  const bool generated = !fields.contains("secret");
  if (generated) fields["secret"] = {{"generate", true}};
  const Exit exit =
      send_change(arguments, terminal, "/v1/plan/change", one_change("add", "client", name, fields));
  if (exit == Exit::done && generated && !arguments.has("--json") && !arguments.has("--dry-run"))
    terminal.line(fmt::format("a new secret was made; to see it: jembatan client secret show {}", name));
  return exit;
}

std::string when(const json& time, const char* never) {
  return time.is_string() ? short_time(time.get<std::string>()) : never;
}

Exit rotations(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/clients/rotations");
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  const json& rows = body->at("rotations");
  if (rows.empty()) {
    terminal.line("no client's secret is being rotated");
    return Exit::done;
  }
  Table table({"client", "old one last used (UTC)", "new one last used (UTC)", "old one valid until (UTC)"});
  for (const json& row : rows) {
    table.add({row.value("client", ""), when(row["old_last_used"], "not since start"),
               when(row["new_last_used"], "not since start"), when(row["old_secret_until"], "finish")});
  }
  terminal.table(table);
  return Exit::done;
}

Exit generate(const Arguments&, Terminal& terminal) {
  terminal.line(host::SystemRandom().letters(32));
  return Exit::done;
}

}  // namespace

std::vector<Command> client_commands() {
  Command adding = add_command(listing());
  adding.summary = "Add a client, with a new shared secret, to a node's plan or to a plan's folder";
  adding.example = "jembatan client add kerapu-deck-3 --address 192.0.2.48/28 --plan /etc/jembatan/plan";
  adding.options.insert(
      adding.options.begin(),
      {{"--address", "ADDRESS", "an address, a prefix or a host name", true},
       {"--plan", "FOLDER", "add it to this plan's folder instead of to a node"},
       {"--unsigned", "", "the client does not sign its requests with Message-Authenticator"}});
  adding.run = add;
  std::vector<Command> out{
      list_command(listing(),
                   {{"--label", "KEY=VALUE",
                     "only with this label; a value stands for what is below it, too; may be given again",
                     false, "", true},
                    {"--address", "ADDRESS", "which client this address would be, and which it shadows"}}),
      show_command(listing()),
      adding,
      set_command(listing()),
      rename_command(listing()),
      remove_command(listing()),
      switch_command(listing(), "enable", "Switch a client on"),
      switch_command(listing(), "disable", "Switch a client off: its requests are dropped"),
      import_command(),
      export_command(),
      {"client secret list",
       "Show whose secrets are being rotated, and which are still used",
       "jembatan client secret list --lab hub",
       reading_options(),
       {},
       rotations},
      {"client secret generate",
       "Print a new secret, for the other side of a connection",
       "jembatan client secret generate > secrets/reef",
       {},
       {},
       generate}};
  for (Command& command : client_secret_commands()) out.push_back(std::move(command));
  return out;
}

}  // namespace jembatan::cli
