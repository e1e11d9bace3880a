// jembatan dictionary: what attributes are called, where they are defined, where they may stand.
#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/names.h"
#include "cli/objects.h"
#include "cli/registry.h"
#include "dictionary/encode.h"
#include "dictionary/read.h"
#include "document/parse.h"

namespace jembatan::cli {
namespace {

using dictionary::Definition;
using dictionary::dotted;
using nlohmann::json;

std::string notes_of(const Definition& definition) {
  std::vector<std::string> notes;
  if (definition.tagged) notes.emplace_back("tagged");
  if (definition.hiding == dictionary::Hiding::user_password) notes.emplace_back("hidden like User-Password");
  if (definition.hiding == dictionary::Hiding::salted) notes.emplace_back("hidden with a salt");
  return join(notes, ", ");
}

json json_of(const Definition& definition) {
  json values = json::object();
  for (const auto& value : definition.values) values[value.name] = value.number;
  json packets = json::object();
  for (std::size_t i = 0; i < dictionary::kColumns; ++i) {
    packets[std::string(name_of(static_cast<dictionary::Column>(i)))] = name_of(definition.presence[i]);
  }
  return {{"name", definition.name},
          {"number", dotted(definition.path)},
          {"type", name_of(definition.type)},
          {"notes", notes_of(definition)},
          {"values", values},
          {"packets", packets},
          {"source", definition.source},
          {"place", definition.place}};
}

Exit print_list(const std::vector<const Definition*>& found, const Arguments& arguments, Terminal& terminal) {
  if (arguments.has("--json")) {
    json list = json::array();
    for (const Definition* definition : found) list.push_back(json_of(*definition));
    terminal.line(json{{"attributes", list}}.dump(2));
  } else if (found.empty()) {
    terminal.line("no attribute found");
  } else {
    Table table({"number", "name", "type", "notes", "source"});
    for (const Definition* definition : found) {
      table.add({dotted(definition->path), definition->name, std::string(name_of(definition->type)),
                 notes_of(*definition), definition->source});
    }
    terminal.table(table);
  }
  return Exit::done;
}

Exit list_attributes(const Arguments& arguments, Terminal& terminal) {
  const auto names = find_names(arguments);
  return names ? print_list((*names)->all(), arguments, terminal) : report(names.error(), terminal);
}

bool speaks_of(const Definition& definition, const std::string& text) {
  if (lower(definition.name).find(text) != std::string::npos || dotted(definition.path) == text) return true;
  if (lower(definition.source).find(text) != std::string::npos) return true;
  for (const auto& value : definition.values) {
    if (lower(value.name).find(text) != std::string::npos) return true;
  }
  return false;
}

Exit find(const Arguments& arguments, Terminal& terminal) {
  const auto names = find_names(arguments);
  if (!names) return report(names.error(), terminal);
  const std::string text = lower(arguments.positionals().front());
  std::vector<const Definition*> found;
  for (const Definition* definition : (*names)->all()) {
    if (speaks_of(*definition, text)) found.push_back(definition);
  }
  return print_list(found, arguments, terminal);
}

void print_one(const Definition& definition, Terminal& terminal) {
  terminal.line(
      fmt::format("{}  {}", terminal.coloured(definition.name, Colour::bold), dotted(definition.path)));
  terminal.line(fmt::format("    type     {}{}", name_of(definition.type),
                            notes_of(definition).empty() ? "" : ", " + notes_of(definition)));
  terminal.line(fmt::format("    defined  {} ({})", definition.source, definition.place));
  std::vector<std::string> packets;
  for (std::size_t i = 0; i < dictionary::kColumns; ++i) {
    if (definition.presence[i] == dictionary::Presence::unknown) continue;
    packets.push_back(
        fmt::format("{} {}", name_of(static_cast<dictionary::Column>(i)), name_of(definition.presence[i])));
  }
  terminal.line(fmt::format("    allowed  {}", packets.empty() ? "not told" : join(packets, ", ")));
  for (const auto& value : definition.values)
    terminal.line(fmt::format("    value    {} = {}", value.name, value.number));
}

Exit show_attribute(const Arguments& arguments, Terminal& terminal) {
  const auto names = find_names(arguments);
  if (!names) return report(names.error(), terminal);
  const std::string& wanted = arguments.positionals().front();
  const auto path = dictionary::parse_path(wanted);
  const Definition* found = path ? (*names)->at(*path) : nullptr;
  if (!path) {
    const auto named = dictionary::find_named(**names, wanted);
    if (!named) return report(named.error(), terminal);
    found = *named;
  }
  if (found == nullptr) {
    terminal.error(fmt::format("attribute {} is in no dictionary", wanted));
    return Exit::no;
  }
  if (arguments.has("--json")) {
    terminal.line(json_of(*found).dump(2));
  } else {
    print_one(*found, terminal);
  }
  return Exit::done;
}

Exit check_dictionary(const Arguments& arguments, Terminal& terminal) {
  document::Problems problems;
  const std::filesystem::path path = arguments.positionals().front();
  if (!std::filesystem::exists(path)) {
    terminal.error(fmt::format("'{}' is not there", path.string()));
    return Exit::usage;
  }
  const auto names = dictionary::read_catalogue(path, problems);
  terminal.out(problems.text());
  terminal.line(fmt::format("{}: {} attributes besides the {} standard ones", problems.count_text(),
                            names->names().size() - dictionary::standard().names().size(),
                            dictionary::standard().names().size()));
  return problems.errors() == 0 ? Exit::done : Exit::no;
}

Exit import(const Arguments& arguments, Terminal& terminal) {
  const auto text = document::read_file(arguments.positionals().front());
  if (!text) return report(text.error(), terminal);
  const RegistryRows rows = read_registry(*text);
  for (const std::string& problem : rows.problems) terminal.error(problem);
  if (!rows.problems.empty()) return Exit::no;
  terminal.out(registry_toml(rows, dictionary::standard()));
  terminal.note(fmt::format(
      "{} attributes, {} of them in the standard catalogue already (left out), {} rows passed over",
      rows.attributes.size(), known_of(rows, dictionary::standard()), rows.passed_over));
  return Exit::done;
}

Exit write(const std::string& what, const Arguments& arguments, Terminal& terminal) {
  const std::filesystem::path file = arguments.positionals().front();
  const auto text = document::read_file(file);
  if (!text) return report(text.error(), terminal);
  return send_change(arguments, terminal, "/v1/plan/change",
                     one_change(what, "dictionary", file.stem().string(), {{"text", *text}}));
}

Exit remove(const Arguments& arguments, Terminal& terminal) {
  return send_change(
      arguments, terminal, "/v1/plan/change",
      one_change("remove", "dictionary", arguments.positionals().front(), nlohmann::json::object()));
}

}  // namespace

std::vector<Command> dictionary_commands() {
  std::vector<Option> options = node_options();
  options.push_back(dictionary_option());
  options.push_back({"--json", "", "one JSON document instead of text"});
  return {{"dictionary list",
           "List every attribute that has a name",
           "jembatan dictionary list",
           options,
           {},
           list_attributes},
          {"dictionary find",
           "Find attributes by a part of their name, a value's name, a number or a source",
           "jembatan dictionary find prefix",
           options,
           {"TEXT", "what to look for", true, false},
           find},
          {"dictionary show",
           "Show one attribute: number, type, values, where it is defined and may stand",
           "jembatan dictionary show Tunnel-Private-Group-ID",
           options,
           {"NAME", "an attribute's name or number, like 26.32473.5", true, false},
           show_attribute},
          {"dictionary check",
           "Check dictionary files without a server",
           "jembatan dictionary check plans/demo/reef-1/plan/dictionaries",
           {},
           {"PATH", "a dictionary file or a folder with some", true, false},
           check_dictionary},
          {"dictionary import",
           "Turn the IANA registry's CSV (Value,Description,Data Type,Reference) into a dictionary",
           "jembatan dictionary import radius-types-2.csv > dictionaries/registry.toml",
           {},
           {"FILE", "the registry's CSV file", true, false},
           import},
          {"dictionary add",
           "Put a dictionary file into a node's plan",
           "jembatan dictionary add strait.toml --node node.toml",
           change_options(),
           {"FILE", "the dictionary; its name in the plan is the file's without .toml", true, false},
           [](const Arguments& a, Terminal& t) { return write("add", a, t); }},
          {"dictionary set",
           "Replace a dictionary of a node's plan by a file",
           "jembatan dictionary set strait.toml --node node.toml",
           change_options(),
           {"FILE", "the dictionary; its name in the plan is the file's without .toml", true, false},
           [](const Arguments& a, Terminal& t) { return write("set", a, t); }},
          {"dictionary remove",
           "Take a dictionary out of a node's plan",
           "jembatan dictionary remove strait --node node.toml",
           change_options(),
           {"NAME", "its name in the plan", true, false},
           remove}};
}

}  // namespace jembatan::cli
