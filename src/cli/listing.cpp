#include "cli/listing.h"

#include <fmt/format.h>

#include <array>
#include <nlohmann/json.hpp>

namespace jembatan::cli {
namespace {

constexpr std::array<std::pair<const char*, const char*>, 5> kParts{{{"--user", "user"},
                                                                     {"--session-id", "session_id"},
                                                                     {"--client", "client"},
                                                                     {"--realm", "realm"},
                                                                     {"--most", "most"}}};

}  // namespace

std::vector<Option> query_options() {
  std::vector<Option> out{{"--user", "NAME", "only of this user (User-Name as received)"},
                          {"--session-id", "TEXT", "only with this Acct-Session-Id"},
                          {"--client", "NAME", "only of this client"},
                          {"--realm", "NAME", "only of this realm"},
                          {"--most", "NUMBER", "how many at the most; default 100"},
                          {"--json", "", "one JSON document instead of a table"}};
  for (Option& option : node_options()) out.push_back(std::move(option));
  return out;
}

QueryParts query_of(const Arguments& arguments) {
  QueryParts out;
  for (const auto& [option, part] : kParts) {
    if (arguments.has(option)) out.emplace_back(part, arguments.get(option));
  }
  return out;
}

Exit list_rows(const Arguments& arguments, Terminal& terminal, const std::string& path,
               const QueryParts& query, const std::string& key,
               const std::function<std::string(const nlohmann::json&)>& print) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", path, query);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else if (body->at(key).empty()) {
    terminal.line("no " + key + " found");
  } else {
    terminal.out(print(body->at(key)));
  }
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
