// jembatan node: what a node says about itself.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/node_access.h"

namespace jembatan::cli {
namespace {

Exit status(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/node");
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  terminal.line(fmt::format("node {}  version {}  up {}  plan revision {}  {} workers",
                            body->value("name", ""), body->value("version", ""),
                            text_of(Duration(1000 * body->value("up_s", std::int64_t{0}))),
                            body->value("plan_revision", 0), body->value("workers", 0)));
  terminal.line(fmt::format("datagrams received {}  being worked on {}  accounting under way {}",
                            body->value("received", 0), body->value("in_flight", 0),
                            body->value("accounting_under_way", 0)));
  Table table({"outcome", "count"});
  for (const auto& [outcome, count] : body->at("outcomes").items()) {
    if (count.get<std::uint64_t>() > 0) table.add({outcome, std::to_string(count.get<std::uint64_t>())});
  }
  terminal.out(table.empty() ? "nothing received yet\n" : table.text());
  return Exit::done;
}

}  // namespace

std::vector<Command> node_commands() {
  std::vector<Option> options = node_options();
  options.push_back({"--json", "", "one JSON document instead of text"});
  return {{"node status",
           "Show a node's version, plan revision and outcomes",
           "jembatan node status --lab hub",
           options,
           {},
           status}};
}

}  // namespace jembatan::cli
