// jembatan lab: the demo chain on this machine.
#include "lab/lab.h"

#include <fmt/format.h>

#include <algorithm>
#include <chrono>
#include <nlohmann/json.hpp>
#include <thread>

#include "base/text.h"
#include "cli/bundle.h"
#include "cli/node_access.h"
#include "lab/hosts.h"
#include "lab/relay.h"

namespace jembatan::cli {
namespace {

Exit print_status(const Arguments& arguments, Terminal& terminal) {
  const auto nodes = lab::status();
  if (arguments.has("--json")) {
    nlohmann::json list = nlohmann::json::array();
    for (const auto& node : nodes) {
      list.push_back({{"name", node.name},
                      {"process", node.process},
                      {"access", node.access},
                      {"accounting", node.accounting},
                      {"management", node.management},
                      {"fault", node.fault},
                      {"host", node.host},
                      {"cut_from", node.cut_from},
                      {"folder", node.folder.string()}});
    }
    terminal.line(nlohmann::json{{"nodes", list}}.dump(2));
    return Exit::done;
  }
  const bool hosts =
      std::any_of(nodes.begin(), nodes.end(), [](const auto& node) { return !node.host.empty(); });
  std::vector<std::string> heading{"node", "state", "process", "fault", "access", "accounting", "management"};
  if (hosts) heading.emplace_back("host");
  Table table(heading);
  for (const auto& node : nodes) {
    std::vector<std::string> row{node.name,
                                 node.process == 0 ? "down" : "up",
                                 node.process == 0 ? "-" : std::to_string(node.process),
                                 node.fault.empty() ? "-" : node.fault,
                                 node.access,
                                 node.accounting,
                                 node.management};
    if (hosts) row.push_back(node.host);
    table.add(std::move(row));
  }
  terminal.table(table);
  for (const auto& [one, other] : lab::cut_links())
    terminal.line(terminal.coloured(
        fmt::format("nothing gets from {} to {} and back: jembatan lab join {} {}", one, other, one, other),
        Colour::warn));
  terminal.line("their files are in " + lab::folder().string());
  return Exit::done;
}

// A node without a plan folder starts with nothing in its plan: it gets the demo's as its first revision.
Status give_first_plan(const std::string& name) {
  Arguments arguments;
  arguments.set("--lab", name);
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  const auto state = node->call("GET", "/v1/node");
  if (!state) return state.error();
  if (state->value("plan_revision", 0) > 0) return {};
  auto body = bundle_of(lab::folder() / name / "plan");
  if (!body) return body.error();
  (*body)["message"] = "the demo's plan";
  const auto applied = node->post("/v1/plan/apply", *body);
  return applied ? Status{} : Status{applied.error()};
}

// The second hub asks to be let in to the plan that the first has begun.
Status let_second_hub_in() {
  const auto there = lab::second_hub_up();
  if (!there) return there.error();
  if (!*there) return {};
  Arguments arguments;
  arguments.set("--lab", "hub");
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  for (const auto until = std::chrono::steady_clock::now() + std::chrono::seconds(15);
       std::chrono::steady_clock::now() < until;
       std::this_thread::sleep_for(std::chrono::milliseconds(100))) {
    const auto body = node->call("GET", "/v1/nodes");
    if (!body) return body.error();
    for (const auto& row : body->at("nodes")) {
      if (row.value("name", "") != lab::kSecondHub || row.value("plan", "").empty()) continue;
      const std::string key = row.value("waits_with", "");
      if (key.empty()) return {};
      const auto admitted = node->post("/v1/nodes/admit", {{"name", lab::kSecondHub}, {"fingerprint", key}});
      return admitted ? Status{} : Status{admitted.error()};
    }
  }
  return fail(Errc::conflict, fmt::format("node {} does not ask to be let in: see {}", lab::kSecondHub,
                                          (lab::folder() / lab::kSecondHub / "log").string()));
}

Exit up(const Arguments& arguments, Terminal& terminal) {
  const lab::Wish wish{arguments.has("--fresh"),   arguments.has("--hosts"),
                       arguments.has("--shared"),  arguments.has("--directory"),
                       arguments.has("--factors"), arguments.has("--free-ports")};
  if (const Status s = lab::up(wish); !s) return report(s.error(), terminal);
  for (const char* name : {"reef-1", "hub"}) {  // the home first: the hub probes it as soon as it knows it
    if (const Status s = give_first_plan(name); !s) return report(s.error(), terminal);
  }
  if (const Status s = let_second_hub_in(); !s) return report(s.error(), terminal);
  return print_status(arguments, terminal);
}

Exit down(const Arguments&, Terminal& terminal) {
  const auto stopped = lab::down();
  if (!stopped) return report(stopped.error(), terminal);
  terminal.line(*stopped == 0 ? "no node was running" : fmt::format("{} nodes stopped", *stopped));
  return Exit::done;
}

Exit set_link(Status (*change)(const std::string&, const std::string&), const Arguments& arguments,
              Terminal& terminal) {
  const auto& nodes = arguments.positionals();
  if (nodes.size() != 2)
    return report(fail(Errc::malformed, "which link? Two nodes, like edge hub"), terminal);
  if (const Status done = change(nodes[0], nodes[1]); !done) return report(done.error(), terminal);
  return print_status(arguments, terminal);
}

Exit cut_nodes(const Arguments& arguments, Terminal& terminal) {
  return set_link(lab::cut, arguments, terminal);
}

Exit join_nodes(const Arguments& arguments, Terminal& terminal) {
  return set_link(lab::join_again, arguments, terminal);
}

// "jembatan lab fault reef-1 delay 800ms": what is wrong stands in words of its own.
Exit fault(const Arguments& arguments, Terminal& terminal) {
  const auto& words = arguments.positionals();
  const std::vector<std::string> what(words.begin() + 1, words.end());
  if (what.empty())
    return report(fail(Errc::malformed, "what is wrong with it? Like: jembatan lab fault reef-1 silent"),
                  terminal);
  if (const Status s = lab::set_fault(words.front(), join(what, " ")); !s) return report(s.error(), terminal);
  return print_status(arguments, terminal);
}

Exit stand_ins(const Arguments& arguments, Terminal& terminal) {
  return report(lab::run_relay(arguments.positionals().front()).error(), terminal);
}

}  // namespace

std::vector<Command> lab_commands() {
  const Option as_json{"--json", "", "one JSON document instead of a table"};
  return {
      {"lab up",
       "Start the demo chain: ship edge, harbour hub, a company's two home servers",
       "jembatan lab up",
       {{"--fresh", "", "forget earlier plans and data of the lab"},
        {"--hosts", "", "each node a machine of its own: a network namespace on one bridge (root)"},
        {"--shared", "",
         "the nodes bring their accounting to one PostgreSQL, which is started with them, and a second hub "
         "shares the plan of the first"},
        {"--directory", "",
         "some of Reef Line's people are in an LDAP directory, which is started with the nodes"},
        {"--factors", "", "the harbour's engineers are asked for a second factor, a one-time code"},
        {"--free-ports", "", "take free ports instead of 1389, 1812, 1813, 3799 and 8812"},
        as_json},
       {},
       up},
      {"lab down", "Stop the demo chain", "jembatan lab down", {}, {}, down},
      {"lab status",
       "Show the nodes of the demo chain, and what is wrong with them",
       "jembatan lab status",
       {as_json},
       {},
       print_status},
      {"lab fault",
       "Let something go wrong with a node of the chain, or mend it (none)",
       "jembatan lab fault reef-1 delay 800ms",
       {as_json},
       {"NODE FAULT",
        "none, silent, delay TIME, drop PERCENT%, duplicate, reorder, wrong-secret, reject-all, off, "
        "restart; of "
        "the directory: none, silent, off",
        true, true},
       fault},
      {"lab cut",
       "Cut the way between two nodes of a lab that is up with --hosts",
       "jembatan lab cut edge hub",
       {as_json},
       {"NODE NODE", "both ends", true, true},
       cut_nodes},
      {"lab join",
       "Mend a way that was cut",
       "jembatan lab join edge hub",
       {as_json},
       {"NODE NODE", "both ends", true, true},
       join_nodes},
      {"lab stand-ins",
       "Carry what is asked of the nodes, with the faults that are set; lab up starts it",
       "jembatan lab stand-ins ~/.local/state/jembatan/lab",
       {},
       {"FOLDER", "of the lab", true, false},
       stand_ins}};
}

}  // namespace jembatan::cli
