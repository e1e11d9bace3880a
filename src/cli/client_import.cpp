#include "cli/client_import.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>
#include <fstream>
#include <iostream>
#include <map>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/change.h"
#include "cli/csv.h"
#include "cli/objects.h"
#include "document/parse.h"
#include "plan/read.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

// Fields of a client that a column can fill; "labels.ANY" besides.
std::vector<std::string> fields() {
  std::vector<std::string> out;
  for (const plan::KeyMeaning& key : plan::key_meanings()) {
    if (key.section == "client" && key.key != "labels" && key.key != "listeners" && key.key != "resolved")
      out.emplace_back(key.key);
  }
  return out;
}

bool is_field(const std::string& name) {
  const auto all = fields();
  return std::find(all.begin(), all.end(), name) != all.end() ||
         (name.starts_with("labels.") && name.size() > 7);
}

// field → column, from "name=Host,address=IP"; without it, each column is called like its field.
Result<std::map<std::string, std::size_t>> read_map(const std::string& text,
                                                    const std::vector<std::string>& heading) {
  std::map<std::string, std::size_t> out;
  const auto column = [&](const std::string& name) -> std::optional<std::size_t> {
    const auto found = std::find(heading.begin(), heading.end(), name);
    if (found == heading.end()) return std::nullopt;
    return static_cast<std::size_t>(found - heading.begin());
  };
  const auto unknown = [](std::string_view what, const std::string& name,
                          const std::vector<std::string>& allowed) {
    const auto near = nearest(name, allowed);
    return fail(Errc::malformed,
                fmt::format("no {} '{}'; there are: {}{}", what, escaped(name), join(allowed, ", "),
                            near ? fmt::format("; nearest: '{}'", *near) : ""));
  };
  auto known = fields();
  known.emplace_back("labels.KEY");
  if (text.empty()) {
    for (std::size_t i = 0; i < heading.size(); ++i) {
      if (!is_field(heading[i]))
        return unknown("field", heading[i], known).at("heading (--map names columns otherwise)");
      out[heading[i]] = i;
    }
  } else {
    for (const std::string_view part : split(text, ',')) {
      const std::size_t equals = part.find('=');
      const std::string field(trim(part.substr(0, equals)));
      const std::string name(equals == std::string_view::npos ? field : trim(part.substr(equals + 1)));
      if (!is_field(field)) return unknown("field", field, known).at("--map");
      const auto found = column(name);
      if (!found) return unknown("column", name, heading).at("--map");
      out[field] = *found;
    }
  }
  for (const char* needed : {"name", "address"}) {
    if (!out.contains(needed))
      return fail(Errc::malformed, fmt::format("--map says no column for '{}'", needed));
  }
  return out;
}

json cell_value(const std::string& field, const std::string& text) {
  if (field == "enabled") {
    const std::string plain = lower(text);
    if (plain == "true" || plain == "yes" || plain == "on" || plain == "1") return true;
    if (plain == "false" || plain == "no" || plain == "off" || plain == "0") return false;
  }
  const bool number =
      !text.empty() && text.size() < 10 && text.find_first_not_of("0123456789") == std::string::npos;
  if (field == "requests_per_second" && number) return std::stoll(text);
  return text;
}

struct Import {
  json changes = json::array();
  std::map<std::string, std::size_t> lines;  // client → line
  std::vector<std::string> refused;          // "row 12: …"
};

// One change a row. A client that is there keeps its secret if the row has none.
Import read_rows(const std::string& file, const std::vector<CsvRow>& rows,
                 const std::map<std::string, std::size_t>& map, const std::map<std::string, json>& there) {
  Import out;
  for (std::size_t i = 1; i < rows.size(); ++i) {
    const CsvRow& row = rows[i];
    const std::string name(trim(row.cells[map.at("name")]));
    const std::string place = fmt::format("{} line {}", file, row.line);
    if (name.empty()) {
      out.refused.push_back(place + ": no name");
      continue;
    }
    if (const auto [earlier, added] = out.lines.try_emplace(name, row.line); !added) {
      out.refused.push_back(
          fmt::format("{}: client '{}' stands in line {} already", place, escaped(name), earlier->second));
      continue;
    }
    json wanted = json::object();
    for (const auto& [field, column] : map) {
      const std::string text(trim(row.cells[column]));
      if (field != "name" && !text.empty()) wanted[field] = cell_value(field, text);
    }
    const bool known = there.contains(name);
    if (!known && !wanted.contains("secret")) wanted["secret"] = {{"generate", true}};
    out.changes.push_back(
        {{"do", "put"}, {"kind", "client"}, {"name", name}, {"fields", wanted}, {"place", place}});
  }
  return out;
}

Result<std::map<std::string, json>> clients_of(NodeClient& node) {
  const auto body = node.call("GET", "/v1/plan/objects", {{"kind", "client"}});
  if (!body) return body.error();
  std::map<std::string, json> out;
  for (const json& object : body->at("objects")) out[object.value("name", "")] = object;
  return out;
}

Exit import_clients(const Arguments& arguments, Terminal& terminal) {
  const std::string path = arguments.positionals().front();
  const auto text = document::read_file(path);
  if (!text) return report(text.error(), terminal);
  const std::string file = std::filesystem::path(path).filename().string();
  const auto rows = read_csv(*text);
  if (!rows) return report(rows.error().at(file), terminal);
  if (rows->size() < 2) return report(fail(Errc::malformed, file + ": no row below the heading"), terminal);
  const auto map = read_map(arguments.get("--map"), rows->front().cells);
  if (!map) return report(map.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto there = clients_of(*node);
  if (!there) return report(there.error(), terminal);
  Import import = read_rows(file, *rows, *map, *there);
  const bool dry = !arguments.has("--apply");
  for (const std::string& line : import.refused) terminal.note("refused: " + line);
  if (!import.refused.empty()) {
    terminal.error(fmt::format("{} of {} rows cannot be taken; nothing was changed", import.refused.size(),
                               rows->size() - 1));
    return Exit::no;
  }
  json body{{"changes", std::move(import.changes)}, {"dry_run", dry}};
  if (const Status s = add_wish(arguments, body); !s) return report(s.error(), terminal);
  if (!body.contains("message")) body["message"] = "import of " + file;
  const auto done = node->post("/v1/plan/change", body);
  if (!done) {
    (void)report(done.error(), terminal);
    terminal.note("nothing was changed");
    return done.error().code == Errc::malformed ? Exit::no : Exit::refused;
  }
  if (arguments.has("--json")) {
    terminal.line(done->dump(2));
    return Exit::done;
  }
  print_applied(*done, dry, Advise::what_changed, terminal);
  if (dry) terminal.line("to do it: the same command with --apply");
  return Exit::done;
}

Exit export_clients(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto clients = clients_of(*node);
  if (!clients) return report(clients.error(), terminal);
  std::vector<std::string> columns{"name", "address"};
  for (const auto& [name, object] : *clients) {
    const json labels = object.value("labels", json::object());
    for (const auto& [label, value] : labels.items()) {
      if (std::find(columns.begin(), columns.end(), "labels." + label) == columns.end())
        columns.push_back("labels." + label);
    }
  }
  for (const char* more : {"message_authenticator", "enabled", "requests_per_second", "waits", "note"}) {
    const bool any =
        std::any_of(clients->begin(), clients->end(), [&](const auto& c) { return c.second.contains(more); });
    if (any) columns.emplace_back(more);
  }
  if (arguments.has("--secrets")) columns.emplace_back("secret");
  terminal.line(join(columns, ","));
  for (const auto& [name, object] : *clients) {
    std::vector<std::string> cells;
    for (const std::string& column : columns) {
      json value = column.starts_with("labels.")
                       ? object.value("labels", json::object()).value(column.substr(7), json(""))
                       : object.value(column, json(""));
      if (column == "secret") {
        const auto shown = node->post("/v1/plan/secret", {{"client", name}, {"do", "show"}});
        if (!shown) return report(shown.error(), terminal);
        value = shown->value("secret", "");
      }
      cells.push_back(csv_cell(value.is_string() ? value.get<std::string>() : value.dump()));
    }
    terminal.line(join(cells, ","));
  }
  return Exit::done;
}

}  // namespace

Command import_command() {
  std::vector<Option> options{{"--map", "FIELD=COLUMN,…",
                               "which column fills which field, like name=Host,address=IP,labels.place=Pier"},
                              {"--apply", "", "do it; without this, what would be done is shown"}};
  for (Option& option : change_options()) {
    if (option.name != "--dry-run") options.push_back(std::move(option));
  }
  return {"client import",
          "Take clients from a table (CSV); first shows what would be added and changed",
          "jembatan client import plans/examples/piers.csv --map name=Host,address=IP,labels.place=Pier "
          "--lab hub",
          std::move(options),
          {"FILE", "the table; its first row names the columns", true, false},
          import_clients};
}

Command export_command() {
  std::vector<Option> options{
      {"--secrets", "", "with the secrets: administrators alone; each is put on record"}};
  for (Option& option : node_options()) options.push_back(std::move(option));
  return {"client export",
          "Write the clients as a table (CSV) to standard output",
          "jembatan client export --lab hub > clients.csv",
          std::move(options),
          {},
          export_clients};
}

}  // namespace jembatan::cli
