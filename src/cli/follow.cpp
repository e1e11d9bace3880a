// jembatan follow: what a node does, live.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/node_access.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

std::string padded(const std::string& text, std::size_t width) {
  return text.size() >= width ? text : text + std::string(width - text.size(), ' ');
}

std::string request_line(const json& event, const Terminal& terminal) {
  const std::string outcome = event.value("outcome", "");
  std::string client = event.value("client", "");
  if (client.empty()) client = event.value("from", "");
  const std::string server = event.value("server", "");
  const auto took = event.value("took_us", 0);
  const auto number = event.value("number", std::uint64_t{0});
  std::string line = padded(number == 0 ? "-" : std::to_string(number), 7) + " " + padded(client, 16) + " " +
                     padded(event.value("user", ""), 24) + " " + padded(event.value("realm", ""), 16) + " " +
                     terminal.coloured(padded(outcome, 15), colour_of(outcome)) + " ";
  line += padded(took < 50 ? "<0.1 ms" : fmt::format("{:.1f} ms", took / 1000.0), 10);
  line += event.value("reason", "");
  if (!server.empty()) line += fmt::format(" [{}]", server);
  const std::string mend = event.value("mend", "");
  if (!mend.empty()) line += terminal.coloured("; " + mend, Colour::dim);
  return line;
}

std::string line_of(const json& event, const Terminal& terminal) {
  const auto at = parse_time(event.value("at", ""));
  const std::string time = terminal.coloured(at ? clock_text(*at) : "", Colour::dim);
  if (event.value("kind", "") == "request") return time + "  " + request_line(event, terminal);
  return time + "  " +
         terminal.coloured(event.value("subject", "") + ": " + event.value("text", ""), Colour::warn);
}

Exit follow(const Arguments& arguments, Terminal& terminal) {
  const std::string count_text = arguments.get("--count", "0");
  if (count_text.size() > 9 || count_text.find_first_not_of("0123456789") != std::string::npos) {
    terminal.error(fmt::format("--count is '{}'; allowed: a number", count_text));
    return Exit::usage;
  }
  const unsigned long most = std::stoul(count_text);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  if (!arguments.has("--json")) {
    terminal.line(terminal.coloured(padded("time", 10) + padded("number", 8) + padded("client", 17) +
                                        padded("user", 25) + padded("realm", 17) + padded("outcome", 16) +
                                        padded("took", 10) + "reason [answered by]",
                                    Colour::bold));
  }
  unsigned long shown = 0;
  const std::string outcome = arguments.get("--outcome");
  const Status followed = node->follow(arguments.get("--where"), [&](const json& event) {
    if (!arguments.has("--all") && is_quiet(event.value("outcome", ""))) return true;
    if (!outcome.empty() && event.value("outcome", "") != outcome) return true;
    terminal.line(arguments.has("--json") ? event.dump() : line_of(event, terminal));
    return most == 0 || ++shown < most;
  });
  return followed ? Exit::done : report(followed.error(), terminal);
}

}  // namespace

std::vector<Command> follow_commands() {
  std::vector<Option> options = node_options();
  options.push_back({"--where", "CONDITION", "only requests for which it holds (docs/conditions.md)"});
  options.push_back({"--outcome", "NAME", "only what ended like that: accepted, rejected, no-answer, …"});
  options.push_back({"--all", "", "repeats and servers' replies, too"});
  options.push_back({"--count", "NUMBER", "end after so many lines; default: go on until interrupted"});
  options.push_back({"--json", "", "one JSON document a line"});
  return {
      {"follow",
       "Show what a node does, live: one line a request",
       "jembatan follow --where 'realm == \"reef.example\" and client.label.place under \"reef\"' --lab hub",
       options,
       {},
       follow}};
}

}  // namespace jembatan::cli
