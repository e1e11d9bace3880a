// jembatan server: the servers that a node forwards to.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "cli/listing.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string percent_text(const json& row, const char* key) {
  return fmt::format("{:5.1f}%", row.value(key, 0.0));
}

// "since 2026-11-25 23:47:38: 3 attempts in a row unanswered, tried again in 12s"
std::string since_and_why(const json& row) {
  const json& since = row.at("since");
  const std::string why = row.value("why", "");
  if (!since.is_string()) return why.empty() ? "-" : why;
  return "since " + short_time(since.get<std::string>()) + (why.empty() ? "" : ": " + why);
}

void print_servers(const json& rows, Terminal& out) {
  Table table({"server", "for", "state", "requests", " share", "wanted", "since (UTC), why"});
  for (const json& row : rows) {
    table.add({row.value("group", "") + "/" + row.value("server", ""), row.value("purpose", ""),
               row.value("state", ""), fmt::format("{:8}", row.value("requests", std::uint64_t{0})),
               percent_text(row, "percent"), percent_text(row, "wanted_percent"), since_and_why(row)});
  }
  out.table(table);
}

Exit list_servers(const Arguments& arguments, Terminal& terminal) {
  return list_rows(arguments, terminal, QueryParts{}, {"/v1/servers", "servers", print_servers});
}

}  // namespace

std::vector<Command> server_commands() {
  return {{"server list",
           "Show the servers that the node forwards to: their state, and how requests are shared among them",
           "jembatan server list --lab hub",
           reading_options(),
           {},
           list_servers}};
}

}  // namespace jembatan::cli
