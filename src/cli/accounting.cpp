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

void print_way(const json& record, Terminal& out) {
  print_attributes(json::array({record}), out);
  if (record.at("attributes").empty())
    out.line("    it was only passed on: what it said went when all had it");
  out.line(out.coloured("where it went", Colour::bold));
  for (const json& one : record.at("delivered"))
    out.line(one.contains("handed_over_to")
                 ? fmt::format("    {}: node {} has taken it over ({} UTC), and sends it",
                               one.value("group", ""), one.value("handed_over_to", ""),
                               short_time(one.value("handed_over", "")))
                 : fmt::format("    {}: {} acknowledged after {} ms ({} UTC), digest {}",
                               one.value("group", ""), one.value("server", ""), one.value("took_ms", 0),
                               short_time(one.value("acknowledged", "")), one.value("digest", "")));
  for (const json& one : record.at("waiting"))
    out.line(one.at("set_aside").is_null() ? fmt::format("    {}: waits in the queue", one.value("group", ""))
                                           : fmt::format("    {}: set aside: {}", one.value("group", ""),
                                                         one.at("set_aside").get<std::string>()));
  if (record.at("delivered").empty() && record.at("waiting").empty())
    out.line(record.value("has_evidence", true)
                 ? "    kept here, sent to nobody"
                 : "    not known: it was kept by an older version, which kept no evidence of deliveries");
  out.line(fmt::format("    digest as received {}", record.value("digest", "")));
}

Exit show_record(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/accounting/record", {{"number", arguments.positionals().front()}});
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    print_way(*body, terminal);
  }
  return Exit::done;
}

Exit redirect(const Arguments& arguments, Terminal& terminal, const std::string& to) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const std::string group = arguments.positionals().front();
  const auto body = node->post("/v1/accounting/queue/redirect", {{"group", group}, {"to", to}});
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    const auto records = body->value("records", std::uint64_t{0});
    terminal.line(to.empty() ? fmt::format("{} records that waited for group {} are dropped", records, group)
                             : fmt::format("{} records that waited for group {} wait for group {} now",
                                           records, group, to));
  }
  return Exit::done;
}

Exit send_elsewhere(const Arguments& arguments, Terminal& terminal) {
  if (!arguments.has("--to"))
    return report(fail(Errc::malformed, "'--to' is missing; allowed: a group of the plan"), terminal);
  return redirect(arguments, terminal, arguments.get("--to"));
}

Exit drop(const Arguments& arguments, Terminal& terminal) {
  return redirect(arguments, terminal, "");
}

Exit show_store(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/accounting/store");
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  Table table({"day (UTC)", "records", "on the disk"});
  std::uint64_t records = 0;
  std::uint64_t octets = 0;
  for (const json& day : body->at("days")) {
    records += day.value("records", std::uint64_t{0});
    octets += day.value("octets", std::uint64_t{0});
    table.add({day.value("day", ""), fmt::format("{:9}", day.value("records", std::uint64_t{0})),
               octets_text(day.value("octets", std::uint64_t{0}))});
  }
  terminal.table(table);
  const auto keep = body->at("keep_s");
  const auto most = body->at("most_octets");
  terminal.line(fmt::format("{} records in {}; {} acknowledged and not in it yet", records,
                            octets_text(octets), body->value("backlog", std::uint64_t{0})));
  terminal.line(fmt::format(
      "kept {}{}", keep.is_null() ? "for ever" : "for " + text_of(Duration(1000 * keep.get<std::int64_t>())),
      most.is_null() ? "" : ", at the most " + octets_text(most.get<std::uint64_t>())));
  return Exit::done;
}

}  // namespace

std::vector<Command> accounting_commands() {
  std::vector<Option> options = accounting_filters();
  options.push_back({"--attributes", "", "every attribute of each record"});
  std::vector<Command> out{
      {"accounting search",
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
       show_queue},
      {"accounting show",
       "Show one record, where it went, and where it has still to go",
       "jembatan accounting show 12 --lab hub",
       reading_options(),
       {"NUMBER", "its number, as accounting search and the log tell it", true, false},
       show_record},
      {"accounting redirect",
       "Send what waits for a group to another group, also what was set aside; on record",
       "jembatan accounting redirect old-archive --to archive --lab hub",
       reading_options({{"--to", "GROUP", "a group of the plan"}}),
       {"GROUP", "a group with records that wait; the plan may have lost it", true, false},
       send_elsewhere},
      {"accounting drop",
       "Send what waits for a group to nobody: the records stay here, if they are kept; on record",
       "jembatan accounting drop old-archive --lab hub",
       reading_options(),
       {"GROUP", "a group with records that wait; the plan may have lost it", true, false},
       drop},
      {"accounting store",
       "Show how much is kept, day by day, and for how long",
       "jembatan accounting store --lab reef-1",
       reading_options(),
       {},
       show_store},
      accounting_usage_command(),
      accounting_export_command()};
  for (Command& one : reconcile_commands()) out.push_back(std::move(one));
  return out;
}

}  // namespace jembatan::cli
