// jembatan session: who is online where.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

Exit list_sessions(const Arguments& arguments, Terminal& terminal) {
  auto query = query_of(arguments);
  query.emplace_back("open", arguments.has("--ended") ? "false" : "true");
  return list_rows(arguments, terminal, "/v1/sessions", query, "sessions", [](const json& rows) {
    Table table({"user", "client", "session", "started", "ended", "seconds", "in", "out"});
    for (const json& row : rows) {
      const bool ended = !row.at("ended").is_null();
      table.add({row.value("user", ""), row.value("client", ""), row.value("session_id", ""),
                 short_time(row.value("started", "")),
                 ended ? short_time(row.at("ended").get<std::string>()) : "online",
                 std::to_string(row.value("session_time_s", 0)),
                 octets_text(row.value("input_octets", std::uint64_t{0})),
                 octets_text(row.value("output_octets", std::uint64_t{0}))});
    }
    return table.text();
  });
}

}  // namespace

std::vector<Command> session_commands() {
  std::vector<Option> options = query_options();
  options.push_back({"--ended", "", "sessions that have ended, too"});
  return {{"session list",
           "Show who is online",
           "jembatan session list --lab reef-1",
           options,
           {},
           list_sessions}};
}

}  // namespace jembatan::cli
