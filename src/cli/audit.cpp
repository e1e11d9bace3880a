// jembatan audit: who did what to the plan, its secrets and tokens.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/listing.h"
#include "cli/objects.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

Exit audit(const Arguments& arguments, Terminal& terminal) {
  QueryParts query;
  for (const char* part : {"author", "action", "subject", "most"}) {
    if (arguments.has(fmt::format("--{}", part)))
      query.emplace_back(part, arguments.get(fmt::format("--{}", part)));
  }
  return list_rows(arguments, terminal, "/v1/audit", query, "audit", [](const json& rows) {
    Table table({"time", "who", "action", "subject", "what"});
    for (const json& row : rows) {
      table.add({short_time(row.value("at", "")), cell(row, "author", 16), cell(row, "action", 16),
                 cell(row, "subject", 24), cut(escaped(row.value("detail", "")), 60)});
    }
    return table.text();
  });
}

}  // namespace

std::vector<Command> audit_commands() {
  std::vector<Option> options{{"--author", "NAME", "only what this token's bearer did"},
                              {"--action", "TEXT", "only this action, like \"secret show\""},
                              {"--subject", "TEXT", "only about subjects with this in their name"},
                              {"--most", "NUMBER", "how many at the most; default 100"},
                              {"--json", "", "one JSON document instead of a table"}};
  for (Option& option : node_options()) options.push_back(std::move(option));
  return {{"audit",
           "Show the record of what people did: changes, secrets shown, tokens made; newest first",
           "jembatan audit --action \"secret show\" --lab hub",
           std::move(options),
           {},
           audit}};
}

}  // namespace jembatan::cli
