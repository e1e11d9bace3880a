// jembatan session: who is online where.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

// Who and where, when, how long and how much, and how it ended.
void print_sessions(const json& rows, Terminal& out) {
  Table table({"user", "client", "NAS", "session", "started (UTC)", "lasts", "in", "out", "ended (UTC)"});
  for (const json& row : rows) {
    const bool ended = !row.at("ended").is_null();
    table.add({row.value("user", ""), row.value("client", ""), row.value("nas", ""),
               row.value("session_id", ""), short_time(row.value("started", "")),
               text_of(Duration(1000 * row.value("session_time_s", std::int64_t{0}))),
               octets_text(row.value("input_octets", std::uint64_t{0})),
               octets_text(row.value("output_octets", std::uint64_t{0})),
               ended ? fmt::format("{} {}", short_time(row.at("ended").get<std::string>()),
                                   row.value("terminate_cause", json("")).is_string()
                                       ? row.value("terminate_cause", "")
                                       : "")
                     : "online"});
  }
  out.table(table);
}

Exit list_sessions(const Arguments& arguments, Terminal& terminal) {
  auto query = accounting_query(arguments);
  if (query) query->emplace_back("open", arguments.has("--ended") ? "false" : "true");
  return list_rows(arguments, terminal, query, {"/v1/sessions", "sessions", print_sessions});
}

}  // namespace

std::vector<Command> session_commands() {
  std::vector<Option> options = accounting_filters();
  options.push_back({"--ended", "", "sessions that have ended, too"});
  return {{"session list",
           "Show who is online",
           "jembatan session list --lab reef-1",
           reading_options(std::move(options)),
           {},
           list_sessions}};
}

}  // namespace jembatan::cli
