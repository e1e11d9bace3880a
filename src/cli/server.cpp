// jembatan server, jembatan group status: the servers that a node forwards to.
#include <fmt/format.h>

#include <algorithm>
#include <nlohmann/json.hpp>

#include "cli/listing.h"
#include "cli/secrets.h"
#include "host/system.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string percent_text(const json& row, const char* key) {
  return fmt::format("{:5.1f}%", row.value(key, 0.0));
}

// Half of the answers of the last minutes came within the first, 99 of 100 within the second: "2.8/31 ms".
std::string times_text(const json& row) {
  if (!row.at("median_ms").is_number()) return "-";
  const auto number = [&row](const char* key) {
    const double ms = row.at(key).get<double>();
    return ms < 10 ? fmt::format("{:.1f}", ms) : fmt::format("{:.0f}", ms);
  };
  return number("median_ms") + "/" + number("p99_ms") + " ms";
}

// The time alone of the last hours; before, the date.
std::string since_text(const json& row) {
  if (!row.at("since").is_string()) return "-";
  const std::string whole = short_time(row.at("since").get<std::string>());
  const auto since = parse_time(row.at("since").get<std::string>());
  const bool lately = since && host::SystemClock().now().wall - *since < std::chrono::hours(12);
  return lately ? whole.substr(11) : whole.substr(0, 10);
}

// Below the table, a line for each server that is not up: why.
void print_reasons(const json& rows, Terminal& out) {
  for (const json& row : rows) {
    const std::string why = row.value("why", "");
    if (why.empty()) continue;
    out.line(out.coloured(fmt::format("{}/{} ({}) is {}: {}", row.value("group", ""), row.value("server", ""),
                                      row.value("purpose", ""), row.value("state", ""), why),
                          row.value("state", "") == "down" ? Colour::bad : Colour::warn));
  }
}

std::string count_text(const json& row, const char* key, std::size_t width) {
  return fmt::format("{:{}}", row.value(key, std::uint64_t{0}), width);
}

void print_servers(const json& rows, Terminal& out) {
  Table table({"server", "for", "state", "waits", "p50/p99", "requests", " share", "wanted", "since (UTC)"});
  for (const json& row : rows) {
    table.add({row.value("group", "") + "/" + row.value("server", ""), row.value("purpose", ""),
               row.value("state", ""), count_text(row, "in_flight", 5), times_text(row),
               count_text(row, "requests", 8), percent_text(row, "percent"),
               percent_text(row, "wanted_percent"), since_text(row)});
  }
  out.table(table);
  print_reasons(rows, out);
}

Exit list_servers(const Arguments& arguments, Terminal& terminal) {
  return list_rows(arguments, terminal, QueryParts{}, {"/v1/servers", "servers", print_servers});
}

// What was asked of each server and what came of it.
void print_group(const json& rows, Terminal& out) {
  Table table({"server", "for", "address", "tier", "weight", "state", "asked", "answered", "recent",
               "last answer (UTC)"});
  for (const json& row : rows) {
    const json& last = row.at("last_answer");
    table.add({row.value("server", ""), row.value("purpose", ""), row.value("address", ""),
               count_text(row, "priority", 4), count_text(row, "weight", 6), row.value("state", ""),
               count_text(row, "attempts", 5), count_text(row, "answers", 8),
               fmt::format("{} of {}", row.value("recent_answers", 0), row.value("recent_attempts", 0)),
               last.is_string() ? short_time(last.get<std::string>()) : "-"});
  }
  out.table(table);
  print_reasons(rows, out);
}

Exit group_status(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/servers");
  if (!body) return report(body.error(), terminal);
  const std::string& name = arguments.positionals().front();
  json rows = json::array();
  std::vector<std::string> names;
  for (const json& row : body->at("servers")) {
    names.push_back(row.value("group", ""));
    if (names.back() == name) rows.push_back(row);
  }
  if (rows.empty()) {
    const auto near = nearest(name, names);
    return report(fail(Errc::not_found, fmt::format("the node sends nothing to a group '{}'{}", escaped(name),
                                                    near ? fmt::format("; nearest: '{}'", *near) : "")),
                  terminal);
  }
  if (arguments.has("--json")) {
    terminal.line(json{{"servers", rows}}.dump(2));
  } else {
    print_group(rows, terminal);
  }
  const bool any_up =
      std::any_of(rows.begin(), rows.end(), [](const json& row) { return row.value("state", "") != "down"; });
  return any_up ? Exit::done : Exit::no;
}

void print_steps(const json& steps, Terminal& terminal) {
  for (const json& step : steps) {
    const bool answered = step.value("answered", false);
    const std::string question =
        step.value("question", "") + (step.contains("user") ? " of " + step.value("user", "") : "");
    const std::string verdict = answered
                                    ? fmt::format("answered ({}) after {:.1f} ms", step.value("code", ""),
                                                  step.value("milliseconds", 0.0))
                                    : "no genuine answer";
    terminal.line(fmt::format("{:10}  {}  {}: {}", step.value("purpose", ""), step.value("address", ""),
                              question, terminal.coloured(verdict, answered ? Colour::good : Colour::bad)));
    if (step.contains("advice")) terminal.line("            " + step.value("advice", ""));
  }
}

Exit check_server(const Arguments& arguments, Terminal& terminal) {
  const std::string& name = arguments.positionals().front();
  const std::size_t slash = name.find('/');
  if (slash == std::string::npos)
    return report(
        fail(Errc::malformed, fmt::format("'{}' is not GROUP/SERVER, like reef-homes/reef-1", escaped(name))),
        terminal);
  json wish{{"group", name.substr(0, slash)}, {"server", name.substr(slash + 1)}};
  if (arguments.has("--user")) {
    const auto password =
        arguments.has("--password-file")
            ? secret_in_file(arguments.get("--password-file"))
            : typed_secret("password of " + arguments.get("--user"), "give --password-file FILE");
    if (!password) return report(password.error(), terminal);
    wish["user"] = arguments.get("--user");
    wish["password"] = text_of(password->reveal());
  }
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/servers/check", wish);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    print_steps(body->at("steps"), terminal);
  }
  const auto& steps = body->at("steps");
  const bool all =
      std::all_of(steps.begin(), steps.end(), [](const json& step) { return step.value("answered", false); });
  return all ? Exit::done : Exit::no;
}

void print_mirror(const json& row, Terminal& out) {
  const auto count = [&row](const char* key) { return row.value(key, std::uint64_t{0}); };
  const std::uint64_t compared = count("same") + count("differed");
  out.line(fmt::format("{} is mirrored to {}: {} answers compared, {} the same, {} otherwise",
                       row.value("of", ""), row.value("to", ""), compared, count("same"),
                       out.coloured(fmt::format("{}", count("differed")),
                                    count("differed") > 0 ? Colour::warn : Colour::good)));
  if (count("unanswered") > 0)
    out.line(fmt::format("  {} copies that {} did not answer", count("unanswered"), row.value("to", "")));
  if (count("shed") > 0)
    out.line(fmt::format("  {} copies that were not sent for want of room", count("shed")));
  if (count("differed") == 0) return;
  std::vector<std::string> parts;
  for (const auto& [what, times] : row.at("by_what").items())
    parts.push_back(fmt::format("{} {}", what, times.get<std::uint64_t>()));
  out.line("  what is otherwise: " + join(parts, ", "));
  for (const json& example : row.at("examples"))
    out.line(fmt::format("  {}  {}: {}", short_time(example.value("time", "")),
                         escaped(example.value("user", "")), example.value("text", "")));
}

Exit group_mirror(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/servers/mirrors");
  if (!body) return report(body.error(), terminal);
  const std::string& name = arguments.positionals().front();
  json rows = json::array();
  std::vector<std::string> names;
  for (const json& row : body->at("mirrors")) {
    const std::string of = row.value("of", "");
    const std::string to = row.value("to", "");
    if (to == name || of == "group " + name || of == "route " + name) rows.push_back(row);
    names.push_back(of + " to " + to);
  }
  if (rows.empty())
    return report(fail(Errc::not_found,
                       fmt::format("nothing of '{}' is mirrored, and nothing to it; the node mirrors: {}",
                                   escaped(name), names.empty() ? "nothing" : join(names, ", "))),
                  terminal);
  const bool differs = std::any_of(
      rows.begin(), rows.end(), [](const json& row) { return row.value("differed", std::uint64_t{0}) > 0; });
  if (arguments.has("--json")) {
    terminal.line(json{{"mirrors", rows}}.dump(2));
  } else {
    for (const json& row : rows) print_mirror(row, terminal);
    if (differs) terminal.line("all of them: jembatan journal search --outcome mirror-differs");
  }
  return differs ? Exit::no : Exit::done;
}

}  // namespace

std::vector<Command> server_commands() {
  return {
      {"server list",
       "Show the servers that the node forwards to: their state, their times, and how requests are shared",
       "jembatan server list --lab hub",
       reading_options(),
       {},
       list_servers},
      {"server check",
       "Let the node ask a server, port by port, and say what came back; exit code 1: no genuine answer",
       "jembatan server check reef-homes/reef-1 --lab hub",
       reading_options({{"--user", "NAME", "a sign-in of this user besides Status-Server"},
                        {"--password-file", "FILE", "file with the user's password; default: it is typed"}}),
       {"GROUP/SERVER", "as in server list", true, false},
       check_server}};
}

std::vector<Command> live_group_commands() {
  return {{"group status",
           "Show the servers of one group: what they were asked, what came of it; exit code 1: all are down",
           "jembatan group status reef-homes --lab hub",
           reading_options(),
           {"NAME", "the group", true, false},
           group_status},
          {"group mirror",
           "Show how what a group answers compares with its mirror; exit code 1: something was otherwise",
           "jembatan group mirror reef-homes --lab hub",
           reading_options(),
           {"NAME", "a group or a route that is mirrored, or the group that it is mirrored to", true, false},
           group_mirror}};
}

}  // namespace jembatan::cli
