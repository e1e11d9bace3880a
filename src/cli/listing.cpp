#include "cli/listing.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "host/system.h"

namespace jembatan::cli {
namespace {

constexpr std::array kFilters{
    std::array{"--user", "NAME", "only of this user, with or without the realm"},
    std::array{"--client", "NAME", "only of this client"},
    std::array{"--realm", "NAME", "only of this realm"},
    std::array{"--since", "TIME",
               "only from then on: 10m (that long ago), 04:30, 2026-11-23, or RFC 3339; UTC"},
    std::array{"--until", "TIME", "only before then, written as --since is"},
    std::array{"--most", "NUMBER", "how many at the most; default 100"}};

}  // namespace

Option filter(std::string_view name) {
  for (const auto& [option, value, meaning] : kFilters)
    if (name == option) return {option, value, meaning};
  return {};
}

Result<QueryParts> query_of(const Arguments& arguments, std::initializer_list<const char*> names) {
  QueryParts out;
  for (const std::string name : names) {
    if (!arguments.has(name)) continue;
    std::string value = arguments.get(name);
    if (name == "--since" || name == "--until") {
      const auto time = parse_moment(value, host::SystemClock().now().wall);
      if (!time) return time.error().at(name);
      value = text_of(*time);
    }
    std::string part = name.substr(2);
    std::replace(part.begin(), part.end(), '-', '_');
    out.emplace_back(std::move(part), std::move(value));
  }
  return out;
}

std::vector<Option> accounting_filters() {
  return {filter("--user"),
          {"--session-id", "TEXT", "only with this Acct-Session-Id"},
          filter("--client"),
          filter("--realm"),
          {"--nas", "NAME", "only of this device: NAS-Identifier or address"},
          {"--calling-station", "TEXT", "only of this Calling-Station-Id"},
          {"--framed-ip", "ADDRESS", "only of this Framed-IP-Address"},
          filter("--since"),
          filter("--until"),
          filter("--most")};
}

Result<QueryParts> accounting_query(const Arguments& arguments) {
  return query_of(arguments, {"--user", "--session-id", "--client", "--realm", "--nas", "--calling-station",
                              "--framed-ip", "--since", "--until", "--most"});
}

Exit list_rows(const Arguments& arguments, Terminal& terminal, const Result<QueryParts>& query,
               const RowsOf& rows) {
  if (!query) return report(query.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", rows.path, *query);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else if (body->at(rows.key).empty()) {
    terminal.line(rows.nothing.empty() ? "no " + rows.key + " found" : rows.nothing);
  } else {
    rows.print(body->at(rows.key), terminal);
  }
  const auto stopped = body->find("stopped_before");
  if (stopped != body->end() && stopped->is_number() && !arguments.has("--json"))
    terminal.line(
        fmt::format("older ones were not looked at any more, it takes long: --before {} goes on there",
                    stopped->get<std::uint64_t>()));
  return Exit::done;
}

std::string short_time(const std::string& time) {
  return time.size() < 19 ? time : time.substr(0, 10) + " " + time.substr(11, 8);
}

std::string octets_text(std::uint64_t octets) {
  if (octets < 1000) return fmt::format("{} B", octets);
  static constexpr std::array kUnits{"kB", "MB", "GB", "TB", "PB"};
  double value = static_cast<double>(octets) / 1000;
  std::size_t unit = 0;
  for (; value >= 1000 && unit + 1 < kUnits.size(); ++unit) value /= 1000;
  return fmt::format("{:.1f} {}", value, kUnits[unit]);
}

bool is_quiet(const std::string& outcome) {
  return outcome == "reply-used" || outcome == "repeat-waiting" || outcome == "repeat-answered" ||
         outcome == "reply-unexpected";
}

Colour colour_of(const std::string& outcome) {
  if (outcome == "accepted" || outcome == "accounted" || outcome == "status-answered") return Colour::good;
  if (outcome == "challenged" || outcome == "ignored" || outcome == "superseded" || is_quiet(outcome))
    return Colour::warn;
  return Colour::bad;
}

}  // namespace jembatan::cli
