// jembatan node list|admit, of nodes that share a database.
#include "cli/shared_nodes.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/node_access.h"

namespace jembatan::cli {
namespace {

constexpr std::int64_t kSilentFrom = 10;  // seconds

std::string state_of(const nlohmann::json& node) {
  if (!node.value("waits_with", "").empty()) return "waits to be let in";
  const std::int64_t silent = node.value("silent_s", std::int64_t{0});
  return silent < kSilentFrom ? "up" : "silent for " + text_of(Duration(1000 * silent));
}

Exit admit(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto& words = arguments.positionals();
  if (words.size() != 2)
    return report(fail(Errc::malformed,
                       "which node, and the fingerprint that it says in its log? Like: "
                       "jembatan node admit hub-b 4f2a-99c1-…"),
                  terminal);
  const auto body = node->post("/v1/nodes/admit", {{"name", words[0]}, {"fingerprint", words[1]}});
  if (!body) return report(body.error(), terminal);
  terminal.line(arguments.has("--json") ? body->dump(2)
                                        : fmt::format("node {} has a part in the plan '{}' now", words[0],
                                                      body->value("plan", "")));
  return Exit::done;
}

}  // namespace

Exit list_shared_nodes(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/nodes");
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  Table table({"node", "number", "state", "version", "plan", "revision", "records", "backlog", "to send"});
  for (const auto& row : body->at("nodes")) {
    const std::string plan = row.value("plan", "");
    table.add({row.value("name", ""), std::to_string(row.value("number", 0)), state_of(row),
               row.value("version", ""), plan.empty() ? "its own" : "shared: " + plan,
               std::to_string(row.value("plan_revision", 0)),
               std::to_string(row.value("last_record", std::int64_t{0})),
               std::to_string(row.value("backlog", 0)), std::to_string(row.value("waiting", 0))});
  }
  terminal.table(table);
  for (const auto& row : body->at("nodes")) {
    const std::string key = row.value("waits_with", "");
    if (key.empty()) continue;
    terminal.line(terminal.coloured(
        fmt::format(
            "if node {} says the same in its log, at a node that has the plan: jembatan node admit {} {}",
            row.value("name", ""), row.value("name", ""), key),
        Colour::warn));
  }
  return Exit::done;
}

std::vector<Command> shared_node_commands() {
  return {{"node admit",
           "Let a node have a part in the plan that nodes share",
           "jembatan node admit hub-b 4f2a-99c1-07de-5b30-a1c4-8e77-2d19-6f05 --node node.toml",
           reading_options(),
           {"NAME FINGERPRINT", "the node, and the fingerprint that it says in its log", true, true},
           admit}};
}

}  // namespace jembatan::cli
