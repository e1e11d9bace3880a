#include "cli/user_import.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/table_import.h"
#include "host/system.h"
#include "identity/password.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

const Fillable& user_columns() {
  static const Fillable all{{"name", "password", "password.hash", "password.nt", "groups", "clients",
                             "enabled", "valid_from", "valid_until", "reply.*"},
                            {"name"}};
  return all;
}

// Lists stand in one cell, with ';' or spaces between.
json list_in(std::string text) {
  for (char& c : text)
    if (c == ';') c = ' ';
  json out = json::array();
  for (const std::string_view part : split(text, ' '))
    if (!part.empty()) out.push_back(std::string(part));
  return out;
}

json value_of_cell(const std::string& field, const std::string& text) {
  if (field == "groups" || field == "clients") return list_in(text);
  if (field == "enabled") {
    if (const auto on = yes_or_no(text)) return *on;
  }
  const bool number = text.size() < 10 && text.find_first_not_of("0123456789") == std::string::npos;
  if (field == "reply.vlan" && number) return std::stoll(text);
  return text;
}

Result<json> change_of(const CsvRow& row, const ColumnMap& map, Keep keep) {
  json fields = json::object();
  for (const auto& [field, column] : map) {
    const std::string text(trim(row.cells[column]));
    if (field == "name" || text.empty()) continue;
    if (field != "password") {
      fields[field] = value_of_cell(field, text);
    } else if (const Status kept = keep_password(Secret(text), keep, fields); !kept) {
      return kept.error();
    }
  }
  return json{{"do", "put"}, {"kind", "user"}, {"name", trim(row.cells[map.at("name")])}, {"fields", fields}};
}

Exit import_users(const Arguments& arguments, Terminal& terminal) {
  const Keep keep = arguments.has("--clear") ? Keep::clear : Keep::hash;
  return import_table(arguments, terminal,
                      {"user", user_columns(), [keep](const CsvRow& row, const ColumnMap& map) {
                         return change_of(row, map, keep);
                       }});
}

}  // namespace

Status keep_password(const Secret& password, Keep keep, json& fields) {
  if (keep == Keep::clear) {
    fields["password.clear"] = std::string(text_of(password.reveal()));
    return {};
  }
  host::SystemRandom random;
  const auto hash = identity::StoredPassword::make_hash(password, random);
  if (!hash) return hash.error();
  fields["password.hash"] = std::string(text_of(hash->reveal()));
  return {};
}

Command user_import_command() {
  std::vector<Option> options = import_options(
      "name=Login,password=Password,groups=Crew",
      {{"--clear", "",
        "keep the passwords themselves, for methods that need them (CHAP), instead of hashes"}});
  return {"user import",
          "Take users from a table (CSV); look first with --dry-run",
          "jembatan user import crew.csv --map name=Login,password=Password,groups=Crew --dry-run --node "
          "node.toml",
          std::move(options),
          {"FILE", "the table; its first row names the columns", true, false},
          import_users};
}

}  // namespace jembatan::cli
