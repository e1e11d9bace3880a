// jembatan node: what a node says about itself.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/known_nodes.h"
#include "cli/listing.h"
#include "cli/node_access.h"
#include "cli/secrets.h"
#include "cli/shared_nodes.h"

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
  if (const std::string degraded = body->value("degraded", ""); !degraded.empty())
    terminal.line(terminal.coloured(degraded, Colour::warn));
  Table table({"outcome", "count"});
  for (const auto& [outcome, count] : body->at("outcomes").items()) {
    if (count.get<std::uint64_t>() > 0) table.add({outcome, std::to_string(count.get<std::uint64_t>())});
  }
  terminal.out(table.empty() ? "nothing received yet\n" : table.text());
  return Exit::done;
}

// The token alone on standard output, so that it can go into a file.
Exit create_token(const Arguments& arguments, Terminal& terminal) {
  if (const Status may = may_hand_out(arguments); !may) return report(may.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post(
      "/v1/tokens", {{"name", arguments.positionals().front()}, {"role", arguments.get("--role")}});
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    const Status given = hand_out(arguments, terminal, body->value("token", ""));
    if (!given) return report(given.error(), terminal);
    terminal.note("keep it in a file that only its bearer can read: it is not shown again");
  }
  return Exit::done;
}

Exit list_tokens(const Arguments& arguments, Terminal& terminal) {
  const auto print = [](const nlohmann::json& rows, Terminal& out) {
    Table table({"token", "role", "made (UTC)", "by", "revoked (UTC)"});
    for (const auto& row : rows) {
      table.add({row.value("name", ""), row.value("role", ""), short_time(row.value("made", "")),
                 row.value("made_by", ""),
                 row["revoked"].is_null() ? "never" : short_time(row.value("revoked", ""))});
    }
    out.table(table);
  };
  return list_rows(arguments, terminal, QueryParts{}, {"/v1/tokens", "tokens", print});
}

Exit revoke_token(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->post("/v1/tokens/revoke", {{"name", arguments.positionals().front()}});
  if (!body) return report(body.error(), terminal);
  terminal.line(arguments.has("--json") ? body->dump(2)
                                        : "token " + arguments.positionals().front() + " is valid no more");
  return Exit::done;
}

}  // namespace

std::vector<Command> node_commands() {
  const std::vector<Option> options = reading_options();
  std::vector<Option> create_options{{"--role", "ROLE", "viewer, operator or administrator", true},
                                     out_option()};
  create_options.insert(create_options.end(), options.begin(), options.end());
  std::vector<Command> out{
      {"node token create",
       "Make a token for the management API; it is shown once",
       "jembatan node token create wulan --role operator --out wulan.token --node node.toml",
       create_options,
       {"NAME", "whose it is, as the record will say", true, false},
       create_token},
      {"node token list",
       "List the tokens of a node",
       "jembatan node token list --lab hub",
       options,
       {},
       list_tokens},
      {"node token revoke",
       "Make a token invalid",
       "jembatan node token revoke wulan --node node.toml",
       options,
       {"NAME", "the token's name", true, false},
       revoke_token},
      {"node status",
       "Show a node's version, plan revision and outcomes",
       "jembatan node status --lab hub",
       options,
       {},
       status}};
  for (Command& command : known_node_commands()) out.push_back(std::move(command));
  for (Command& command : shared_node_commands()) out.push_back(std::move(command));
  return out;
}

}  // namespace jembatan::cli
