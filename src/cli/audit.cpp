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
  const auto query =
      query_of(arguments, {"--author", "--action", "--subject", "--since", "--until", "--most"});
  const auto print = [](const json& rows, Terminal& out) {
    Table table({"time (UTC)", "who", "action", "subject", "what"});
    for (const json& row : rows) {
      table.add({short_time(row.value("at", "")), cell(row, "author", 16), cell(row, "action", 16),
                 cell(row, "subject", 24), escaped(row.value("detail", ""))});
    }
    out.table(table);
  };
  return list_rows(arguments, terminal, query, {"/v1/audit", "audit", print});
}

}  // namespace

std::vector<Command> audit_commands() {
  std::vector<Option> options{{"--author", "NAME", "only what this token's bearer did"},
                              {"--action", "TEXT", "only this action, like \"secret show\""},
                              {"--subject", "TEXT", "only about subjects with this in their name"},
                              filter("--since"),
                              filter("--until"),
                              filter("--most")};
  return {{"audit",
           "Show the record of what people did: changes, secrets shown, tokens made; newest first",
           "jembatan audit --action \"secret show\" --lab hub",
           reading_options(std::move(options)),
           {},
           audit}};
}

}  // namespace jembatan::cli
