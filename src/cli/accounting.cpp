// jembatan accounting: the records that a node keeps.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string with_attributes(const json& rows) {
  std::string out;
  for (const json& row : rows) {
    out +=
        fmt::format("record {}  {}  from client {} ({}) at {}\n", row.value("id", 0), row.value("status", ""),
                    row.value("client", ""), row.value("source", ""), row.value("received", ""));
    for (const json& attribute : row.at("attributes")) {
      out += fmt::format("    {}  {}\n", attribute.value("name", ""), attribute.value("value", ""));
    }
  }
  return out;
}

std::string as_table(const json& rows) {
  Table table({"record", "received", "status", "user", "client", "session", "seconds", "in", "out"});
  for (const json& row : rows) {
    table.add({std::to_string(row.value("id", 0)), short_time(row.value("received", "")),
               row.value("status", ""), row.value("user", ""), row.value("client", ""),
               row.value("session_id", ""), std::to_string(row.value("session_time_s", 0)),
               octets_text(row.value("input_octets", std::uint64_t{0})),
               octets_text(row.value("output_octets", std::uint64_t{0}))});
  }
  return table.text();
}

Exit search_records(const Arguments& arguments, Terminal& terminal) {
  return list_rows(arguments, terminal, "/v1/accounting/records", query_of(arguments), "records",
                   arguments.has("--attributes") ? with_attributes : as_table);
}

}  // namespace

std::vector<Command> accounting_commands() {
  std::vector<Option> options = query_options();
  options.push_back({"--attributes", "", "every attribute of each record"});
  return {{"accounting search",
           "Search the accounting records of a node, newest first",
           "jembatan accounting search --lab hub --user sari@reef.example",
           options,
           {},
           search_records}};
}

}  // namespace jembatan::cli
