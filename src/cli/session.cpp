// jembatan session: who is online where.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/node_access.h"
#include "cli/session_number.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string text_in(const json& row, const char* key) {
  return row.at(key).is_string() ? row.at(key).get<std::string>() : "";
}

std::string end_text(const json& row) {
  if (row.at("ended").is_null()) return "online";
  const std::string by = text_in(row, "ended_by");
  const std::string why = by == "lost"     ? "lost"
                          : by == "device" ? "device began anew"
                                           : text_in(row, "terminate_cause");
  return short_time(text_in(row, "ended")) + (why.empty() ? "" : " " + why);
}

std::string place_text(const json& row) {
  const std::string place = text_in(row, "place");
  return place.empty() ? "" : " (" + place + ")";
}

std::string device_text(const json& row) {
  const std::string port = text_in(row, "port");
  return text_in(row, "nas") + (port.empty() ? "" : " port " + port);
}

std::string lasting_text(const json& row) {
  return text_of(Duration(1000 * row.value("session_time_s", std::int64_t{0})));
}

// Who and where, when, how long and how much, and how it ended.
void print_sessions(const json& rows, Terminal& out) {
  Table table(
      {"session", "user", "client (place)", "NAS", "started (UTC)", "lasts", "in", "out", "ended (UTC)"});
  for (const json& row : rows) {
    table.add({accounting::session_number(row.value("number", std::int64_t{0})), text_in(row, "user"),
               text_in(row, "client") + place_text(row), device_text(row),
               short_time(text_in(row, "started")), lasting_text(row),
               octets_text(row.value("input_octets", std::uint64_t{0})),
               octets_text(row.value("output_octets", std::uint64_t{0})), end_text(row)});
  }
  out.table(table);
}

Exit list_sessions(const Arguments& arguments, Terminal& terminal) {
  auto query = accounting_query(arguments);
  if (query && arguments.has("--lost")) {
    query->emplace_back("lost", "true");
  } else if (query) {
    query->emplace_back("open", arguments.has("--ended") ? "false" : "true");
  }
  return list_rows(arguments, terminal, query, {"/v1/sessions", "sessions", print_sessions});
}

void print_session(const json& row, const json& records, Terminal& out) {
  const auto line = [&](std::string_view name, const std::string& value) {
    if (!value.empty()) out.line(fmt::format("  {:<12}{}", name, value));
  };
  out.line(out.coloured(
      fmt::format("session {}  {}", accounting::session_number(row.value("number", std::int64_t{0})),
                  end_text(row)),
      Colour::bold));
  line("user", text_in(row, "user"));
  line("realm", text_in(row, "realm"));
  line("client", text_in(row, "client") + place_text(row));
  line("NAS", device_text(row));
  line("session id", text_in(row, "session_id"));
  line("station", text_in(row, "calling_station"));
  line("address", text_in(row, "framed_ip"));
  line("started", short_time(text_in(row, "started")) + " UTC, lasts " + lasting_text(row));
  line("last heard", short_time(text_in(row, "heard")) + " UTC");
  line("octets", fmt::format("{} in, {} out", octets_text(row.value("input_octets", std::uint64_t{0})),
                             octets_text(row.value("output_octets", std::uint64_t{0}))));
  out.line(out.coloured("records of this device and Acct-Session-Id", Colour::bold));
  if (records.empty()) out.line("  none at this node: other nodes of its plan have them");
  for (const json& one : records)
    out.line(fmt::format("  {:>8}  {}  {:<15}  {}", one.value("id", 0), short_time(text_in(one, "received")),
                         text_in(one, "status"), text_in(one, "user")));
}

Exit show_session(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto number = session_of(arguments);
  if (!number) return report(number.error(), terminal);
  const auto found = node->call("GET", "/v1/sessions", {{"id", std::to_string(*number)}});
  if (!found) return report(found.error(), terminal);
  if (found->at("sessions").empty())
    return report(
        fail(Errc::not_found, fmt::format("there is no session {}; jembatan session list --ended shows "
                                          "their numbers",
                                          arguments.positionals().front())),
        terminal);
  const json& session = found->at("sessions").front();
  const auto records =
      node->call("GET", "/v1/accounting/records",
                 {{"session_id", text_in(session, "session_id")}, {"nas", text_in(session, "nas")}});
  if (!records) return report(records.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(json{{"session", session}, {"records", records->at("records")}}.dump(2));
  } else {
    print_session(session, records->at("records"), terminal);
  }
  return Exit::done;
}

}  // namespace

std::vector<Command> session_commands() {
  std::vector<Option> options = accounting_filters();
  options.push_back({"--ended", "", "sessions that have ended, too"});
  options.push_back({"--lost", "", "only sessions whose Stop is lost"});
  return {{"session list",
           "Show who is online",
           "jembatan session list --lab reef-1",
           reading_options(std::move(options)),
           {},
           list_sessions},
          {"session show",
           "Show one session with its records",
           "jembatan session show 12 --lab reef-1",
           reading_options(),
           {"NUMBER", "its number, as session list tells it", true, false},
           show_session}};
}

}  // namespace jembatan::cli
