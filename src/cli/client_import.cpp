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
#include "cli/column_map.h"
#include "cli/objects.h"
#include "plan/read.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

Fillable client_columns() {
  Fillable out{{}, {"name", "address"}};
  for (const plan::KeyMeaning& key : plan::key_meanings()) {
    if (key.section == "client" && key.key != "labels" && key.key != "listeners" && key.key != "resolved")
      out.fields.emplace_back(key.key);
  }
  out.fields.emplace_back("labels.*");
  return out;
}

json cell_value(const std::string& field, const std::string& text) {
  if (field == "enabled") {
    if (const auto on = yes_or_no(text)) return *on;
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
  const auto rows = read_rows_of(path);
  if (!rows) return report(rows.error(), terminal);
  const std::string file = std::filesystem::path(path).filename().string();
  const auto map = read_map(arguments.get("--map"), rows->front().cells, client_columns());
  if (!map) return report(map.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto there = clients_of(*node);
  if (!there) return report(there.error(), terminal);
  Import import = read_rows(file, *rows, *map, *there);
  for (const std::string& line : import.refused) terminal.note("refused: " + line);
  if (!import.refused.empty()) {
    terminal.error(fmt::format("{} of {} rows cannot be taken; nothing was changed", import.refused.size(),
                               rows->size() - 1));
    return Exit::no;
  }
  json body{{"changes", std::move(import.changes)}};
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
  print_applied(*done, arguments, Advise::what_changed, terminal);
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
  std::vector<Option> options{
      {"--map", "FIELD=COLUMN,…",
       "which column fills which field, like name=Host,address=IP,labels.place=Pier"}};
  for (Option& option : change_options()) options.push_back(std::move(option));
  return {"client import",
          "Take clients from a table (CSV); look first with --dry-run",
          "jembatan client import plans/examples/piers.csv --map name=Host,address=IP,labels.place=Pier "
          "--dry-run --lab hub",
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
