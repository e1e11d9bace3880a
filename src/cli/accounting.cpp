// jembatan accounting: the records that a node keeps.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/packet_text.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

void print_attributes(const json& rows, Terminal& out) {
  for (const json& row : rows) {
    out.line(fmt::format("record {}  {}  client {}, {}  {} UTC", row.value("id", 0), row.value("status", ""),
                         row.value("client", ""), row.value("source", ""),
                         short_time(row.value("received", ""))));
    for (const json& attribute : row.at("attributes"))
      out.line(fmt::format("    {}  {}", attribute.value("name", ""), value_text(attribute.at("value"))));
  }
}

void print_records(const json& rows, Terminal& out) {
  Table table({"record", "received (UTC)", "status", "user", "client", "NAS", "session", "lasts", "in", "out",
               "cause"});
  for (const json& row : rows) {
    const json cause = row.value("terminate_cause", json());
    table.add({std::to_string(row.value("id", 0)), short_time(row.value("received", "")),
               row.value("status", ""), row.value("user", ""), row.value("client", ""), row.value("nas", ""),
               row.value("session_id", ""),
               text_of(Duration(1000 * row.value("session_time_s", std::int64_t{0}))),
               octets_text(row.value("input_octets", std::uint64_t{0})),
               octets_text(row.value("output_octets", std::uint64_t{0})),
               cause.is_string() ? cause.get<std::string>() : "-"});
  }
  out.table(table);
}

Exit search_records(const Arguments& arguments, Terminal& terminal) {
  return list_rows(arguments, terminal, accounting_query(arguments),
                   {"/v1/accounting/records", "records",
                    arguments.has("--attributes") ? print_attributes : print_records});
}

// "at 12.5 a second, 4m left": when the queue would be empty if it went on like that.
std::string pace_text(const json& row) {
  const double per_second = row.value("per_second", 0.0);
  const auto records = row.value("records", std::uint64_t{0});
  if (per_second < 0.1) return records == 0 ? "-" : "0 a second";
  std::string out = fmt::format("{:.1f} a second", per_second);
  if (records > 0)
    out +=
        ", " +
        text_of(Duration(1000 * static_cast<std::int64_t>(static_cast<double>(records) / per_second + 1))) +
        " left";
  return out;
}

void print_queue(const json& rows, Terminal& out) {
  Table table({"group", "waiting", "oldest (UTC)", "acknowledged", "pace", "since (UTC), why it waits"});
  for (const json& row : rows) {
    const auto time = [&row](const char* key) {
      return row.at(key).is_string() ? short_time(row.at(key).get<std::string>()) : std::string("-");
    };
    const std::string problem = row.value("problem", "");
    const std::string since = time("problem_since");
    table.add({row.value("group", ""), fmt::format("{:7}", row.value("records", std::uint64_t{0})),
               time("oldest"), fmt::format("{:12}", row.value("acknowledged", std::uint64_t{0})),
               pace_text(row),
               problem.empty() ? "-"
               : since == "-"  ? problem
                               : since + ": " + problem});
  }
  out.table(table);
}

Exit show_queue(const Arguments& arguments, Terminal& terminal) {
  return list_rows(arguments, terminal, QueryParts{},
                   {"/v1/accounting/queue", "queue", print_queue,
                    "nothing waits, and nothing was sent since the node started"});
}

}  // namespace

std::vector<Command> accounting_commands() {
  std::vector<Option> options = accounting_filters();
  options.push_back({"--attributes", "", "every attribute of each record"});
  return {{"accounting search",
           "Search the accounting records of a node, newest first",
           "jembatan accounting search --lab hub --user sari@reef.example",
           reading_options(std::move(options)),
           {},
           search_records},
          {"accounting queue",
           "Show the records that wait to be sent to groups, how fast they leave, and why they wait",
           "jembatan accounting queue --lab hub",
           reading_options(),
           {},
           show_queue}};
}

}  // namespace jembatan::cli
