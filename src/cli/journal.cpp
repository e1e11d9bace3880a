// jembatan journal: past requests, and why they went as they did.
#include <fmt/format.h>

#include <list>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/text.h"
#include "cli/across.h"
#include "cli/case_text.h"
#include "cli/known_nodes.h"
#include "cli/listing.h"
#include "cli/objects.h"
#include "cli/packet_text.h"

namespace jembatan::cli {
namespace {

using namespace std::chrono_literals;
using nlohmann::json;

std::string milliseconds(const json& entry) {
  if (entry.value("took_us", std::int64_t{0}) < 50) return "  <0.1";
  return fmt::format("{:6.1f}", static_cast<double>(entry.value("took_us", std::int64_t{0})) / 1000);
}

void print_requests(const json& rows, Terminal& out) {
  Table table({"number", "time (UTC)", "client", "user", "outcome", "    ms", "reason [answered by]"});
  for (const json& row : rows) {
    const std::string server = row.value("server", "");
    table.add({std::to_string(row.value("number", std::uint64_t{0})), short_time(row.value("at", "")),
               cell(row, "client", 16), cell(row, "user", 28), cell(row, "outcome", 16), milliseconds(row),
               row.value("reason", "") + (server.empty() ? "" : " [" + server + "]")});
  }
  out.table(table);
}

Exit search_journal(const Arguments& arguments, Terminal& terminal) {
  const auto query = query_of(arguments, {"--user", "--client", "--realm", "--outcome", "--since", "--until",
                                          "--text", "--before", "--most"});
  return list_rows(arguments, terminal, query, {"/v1/journal", "requests", print_requests});
}

void print_packet(const json& packet, const std::string& direction, Terminal& terminal) {
  if (!packet.is_object()) return;
  terminal.line(terminal.coloured(fmt::format("{} {}", packet.value("packet", ""), direction), Colour::bold));
  for (const json& line : packet.at("attributes")) {
    const std::string indent(2 + 2 * line.value("depth", std::size_t{0}), ' ');
    terminal.line(fmt::format("{}{} {}", indent, line.value("name", ""), value_text(line.at("value"))));
  }
}

/// The journals of the nodes that are known. Those that do not answer are told of once, and passed over.
class KnownJournals final : public Journals {
 public:
  KnownJournals(std::vector<KnownNode> known, Terminal& terminal) : terminal_(terminal) {
    for (KnownNode& node : known) {
      auto client = NodeClient::open(node.options);
      if (client) {
        nodes_.emplace_back(node.name, std::move(*client));
      } else {
        terminal_.note(fmt::format("node {} is passed over: {}", node.name, client.error().text));
      }
    }
  }
  std::optional<Found> find(const std::string& leg, As as) override {
    for (auto at = nodes_.begin(); at != nodes_.end();) {
      auto& [name, node] = *at;
      const auto body =
          node.call("GET", "/v1/journal", {{as == As::received ? "leg" : "asked", leg}, {"most", "1"}});
      if (!body) {
        terminal_.note(fmt::format("node {} is passed over: {}", name, body.error().text));
        at = nodes_.erase(at);
        continue;
      }
      const json& found = body->at("requests");
      if (!found.empty()) {
        const std::string number = std::to_string(found.front().value("number", std::uint64_t{0}));
        const auto entry = node.call("GET", "/v1/journal/entry", {{"number", number}});
        if (entry) return Found{name, std::make_shared<const json>(*entry)};
      }
      ++at;
    }
    return std::nullopt;
  }

 private:
  Terminal& terminal_;
  std::list<std::pair<std::string, NodeClient>> nodes_;
};

Exit show_across(const json& entry, NodeClient& node, const Arguments& arguments, Terminal& terminal) {
  auto known = known_nodes(arguments);
  if (!known) return report(known.error(), terminal);
  const auto own = node.call("GET", "/v1/node");
  if (!own) return report(own.error(), terminal);
  if (known->empty())
    terminal.note("no other nodes are known; to add one: jembatan node add NAME --url URL --token-file FILE");
  KnownJournals journals(std::move(*known), terminal);
  const Hop first = way_of(own->value("name", ""), std::make_shared<const json>(entry), journals);
  if (arguments.has("--json")) {
    terminal.line(ladder_json(first).dump(2));
  } else {
    for (const LadderLine& line : ladder_of(first))
      terminal.line(line.outcome.empty() ? line.text : terminal.coloured(line.text, colour_of(line.outcome)));
  }
  return Exit::done;
}

Exit show_request(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/journal/entry", {{"number", arguments.positionals().front()}});
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--across")) return show_across(*body, *node, arguments, terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return Exit::done;
  }
  const std::string revision = body->value("plan_revision", 0) > 0
                                   ? fmt::format(", plan revision {}", body->value("plan_revision", 0))
                                   : "";
  terminal.line(terminal.coloured(fmt::format("request {}  {} UTC  client {}, {}{}", body->value("number", 0),
                                              short_time(body->value("at", "")), body->value("client", ""),
                                              body->value("from", ""), revision),
                                  Colour::bold));
  print_packet(body->at("request"), "received", terminal);
  terminal.line(terminal.coloured("trail", Colour::bold));
  const std::string outcome = body->value("outcome", "");
  for (const json& one : body->at("trail")) {
    const std::string line = one.get<std::string>();
    const bool ending = line.starts_with(outcome);
    terminal.line("  " + (ending ? terminal.coloured(line, colour_of(outcome)) : line));
  }
  print_packet(body->at("reply"), "sent", terminal);
  const json delivery = body->value("delivery", json::array());
  if (delivery.empty()) return Exit::done;
  terminal.line(terminal.coloured(fmt::format("record {}", body->value("record", 0)), Colour::bold));
  for (const json& line : delivery) terminal.line("  " + line.get<std::string>());
  return Exit::done;
}

Exit print_case(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("GET", "/v1/journal/entry", {{"number", arguments.positionals().front()}});
  if (!body) return report(body.error(), terminal);
  const bool lab = arguments.has("--lab");
  terminal.out(case_text(*body, arguments.get(lab ? "--lab" : "--node", "node.toml")));
  return Exit::done;
}

Exit print_rejected(NodeClient& node, const std::string& user, Terminal& terminal, bool as_json) {
  std::uint64_t behind = 0;
  while (true) {
    const auto body =
        node.call("GET", "/v1/journal/unmask", {{"user", user}, {"behind", std::to_string(behind)}});
    if (!body && body.error().code == Errc::not_found) return Exit::done;  // the time is over
    if (!body) return report(body.error(), terminal);
    for (const json& seen : body->at("rejected")) {
      behind = seen.at("number").get<std::uint64_t>();
      terminal.line(as_json ? seen.dump()
                            : fmt::format("{}  {}  '{}'", short_time(seen.value("at", "")),
                                          seen.value("client", ""), seen.value("password", "")));
    }
    std::this_thread::sleep_for(300ms);
  }
}

Exit unmask(const Arguments& arguments, Terminal& terminal) {
  const std::string user = arguments.get("--user");
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto begun =
      node->post("/v1/journal/unmask", {{"user", user}, {"for", arguments.get("--for", "10m")}});
  if (!begun) return report(begun.error(), terminal);
  const bool as_json = arguments.has("--json");
  if (!as_json) {
    terminal.line(fmt::format(
        "rejected passwords of {} until {}; this is on record (jembatan audit); interrupt to look no longer",
        user, short_time(begun->value("until", ""))));
  }
  return print_rejected(*node, user, terminal, as_json);
}

}  // namespace

std::vector<Command> journal_commands() {
  std::vector<Option> search_options{
      filter("--user"),
      filter("--client"),
      filter("--realm"),
      {"--outcome", "NAME", "only what ended like that: accepted, rejected, no-answer, …"},
      filter("--since"),
      filter("--until"),
      {"--text", "TEXT", "only with this in the user's name, the reason or the trail"},
      {"--before", "NUMBER", "only requests before this one, to go on behind a page"},
      filter("--most")};
  std::vector<Option> unmask_options{{"--user", "NAME", "whose passwords, with the realm", true},
                                     {"--for", "TIME", "how long, 0s (no more) to 1h; default 10m"}};
  return {
      {"journal search",
       "Find past requests, the newest first",
       "jembatan journal search --user sari --outcome rejected --since 10m --lab hub",
       reading_options(std::move(search_options)),
       {},
       search_journal},
      {"journal show",
       "Tell the story of one request: what came, each step and its reason, what was sent",
       "jembatan journal show 12 --lab reef-1",
       reading_options(
           {{"--across", "", "its way over all hops that are known, with times: where it was decided"}}),
       {"NUMBER", "its number, as journal search and follow tell it", true, false},
       show_request},
      {"journal rehearse",
       "Print a rehearsal's case for a request that has happened: the same is asked, and the same expected",
       "jembatan journal rehearse 12 --lab hub >> rehearsals/seen.toml",
       node_options(),
       {"NUMBER", "its number, as journal search and follow tell it", true, false},
       print_case},
      {"journal unmask",
       "Show the rejected passwords of one user for a while; administrators only, on record, never on disk",
       "jembatan journal unmask --user sari@reef.example --for 10m --lab reef-1",
       reading_options(std::move(unmask_options)),
       {},
       unmask}};
}

}  // namespace jembatan::cli
