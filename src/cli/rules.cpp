// jembatan route, access, reply-set, edit: rules, and what they share.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/objects.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

const Listing& routes() {
  static const Listing all{"route",
                           {"route", "handle", "for", "when"},
                           [](const json& object) {
                             return std::vector<std::string>{
                                 cell(object, "name", 30), cell(object, "handle", 24),
                                 list_text(object, "for"), cell(object, "when", 1000)};
                           },
                           "\"test net\"",
                           "handle=group:reef-homes"};
  return all;
}

const Listing& access_rules() {
  static const Listing all{"access",
                           {"rule", "permit", "reply", "when"},
                           [](const json& object) {
                             return std::vector<std::string>{
                                 cell(object, "name", 28), object.value("permit", false) ? "yes" : "no",
                                 cut(pairs_text(object.value("reply", json::object())), 30),
                                 object.contains("when") ? cell(object, "when", 1000) : "always"};
                           },
                           "\"crew on deck\"",
                           "permit=true"};
  return all;
}

const Listing& reply_sets() {
  static const Listing all{"reply_set",
                           {"reply set", "reply"},
                           [](const json& object) {
                             return std::vector<std::string>{
                                 cell(object, "name", 28),
                                 cut(pairs_text(object.value("reply", json::object())), 60)};
                           },
                           "aboard",
                           "reply.Idle-Timeout=10m"};
  return all;
}

std::string edits_text(const json& object) {
  std::vector<std::string> parts;
  for (const char* what : {"rewrite", "copy", "rename", "remove", "set", "add"}) {
    const auto found = object.find(what);
    if (found == object.end()) continue;
    std::vector<std::string> names;
    for (const auto& [key, value] : found->items())
      names.push_back(found->is_array() ? value.get<std::string>() : key);
    parts.push_back(std::string(what) + " " + join(names, " "));
  }
  return join(parts, ", ");
}

const Listing& edits() {
  static const Listing all{"edit",
                           {"edit", "at", "changes", "when"},
                           [](const json& object) {
                             return std::vector<std::string>{
                                 cell(object, "name", 28), cell(object, "at", 12),
                                 cut(edits_text(object), 50),
                                 object.contains("when") ? cell(object, "when", 1000) : "always"};
                           },
                           "\"say where\"",
                           "at=forwarding 'add.Class={client}'"};
  return all;
}

// Lists of rules keep their order.
Command ordered(Command command) {
  command.summary += ", in their order";
  return command;
}

Command move_command(const Listing& listing) {
  std::vector<Option> options = place_options();
  for (Option& option : change_options()) options.push_back(std::move(option));
  const bool all_count = listing.kind == "edit";
  return {
      listing.kind + " move",
      fmt::format("Move {}: {}", with_article(listing.one()),
                  all_count ? "all that match are done, in their order" : "the first that matches decides"),
      fmt::format("jembatan {} move {} --first --node node.toml", listing.kind, listing.name_example),
      std::move(options),
      {"NAME", "its name", true, false},
      [kind = listing.kind](const Arguments& arguments, Terminal& terminal) {
        json body = one_change("move", kind, arguments.positionals().front(), json::object());
        const auto placed = add_place(arguments, body["changes"][0]);
        if (!placed) return report(placed.error(), terminal);
        if (!*placed)
          return report(
              fail(Errc::malformed, "where to? One of --before NAME, --after NAME, --first, --last"),
              terminal);
        return send_change(arguments, terminal, "/v1/plan/change", body);
      }};
}

}  // namespace

std::vector<Command> route_commands() {
  return {ordered(list_command(routes())), show_command(routes()), add_command(routes()),
          set_command(routes()),           move_command(routes()), remove_command(routes())};
}

std::vector<Command> access_commands() {
  return {ordered(list_command(access_rules())), show_command(access_rules()),
          add_command(access_rules()),           set_command(access_rules()),
          move_command(access_rules()),          remove_command(access_rules())};
}

std::vector<Command> reply_set_commands() {
  return {list_command(reply_sets()), show_command(reply_sets()), add_command(reply_sets()),
          set_command(reply_sets()), remove_command(reply_sets())};
}

std::vector<Command> edit_commands() {
  return {ordered(list_command(edits())), show_command(edits()), add_command(edits()),
          set_command(edits()),           move_command(edits()), remove_command(edits())};
}

}  // namespace jembatan::cli
