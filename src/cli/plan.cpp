// jembatan plan: checking a plan's folder, putting a changed one into force.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "admin/json.h"
#include "cli/node_access.h"
#include "plan/read.h"

namespace jembatan::cli {
namespace {

Exit check(const Arguments& arguments, Terminal& terminal) {
  document::Problems problems;
  const auto plan = plan::read_folder(arguments.positionals().front(), problems);
  if (arguments.has("--json")) {
    terminal.line(admin::json_of(problems).dump(2));
  } else {
    terminal.out(problems.text());
    terminal.line(plan ? fmt::format("{}: {} clients, {} users, {} realms, {} groups", problems.count_text(),
                                     plan->clients.size(), plan->users.size(), plan->realms.size(),
                                     plan->groups.size())
                       : problems.count_text());
  }
  return plan ? Exit::done : Exit::no;
}

Exit reload(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto body = node->call("POST", "/v1/plan/reload");
  if (!body && body.error().code == Errc::malformed) {
    terminal.error(body.error().text + "\nthe active plan stays in force");
    return Exit::no;
  }
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
  } else {
    terminal.line(fmt::format("plan revision {} is in force", body->value("plan_revision", 0)));
  }
  return Exit::done;
}

}  // namespace

std::vector<Command> plan_commands() {
  std::vector<Option> reload_options = node_options();
  reload_options.push_back({"--json", "", "one JSON document instead of text"});
  return {{"plan check",
           "Check a plan's folder without a server: every error with file, line and column",
           "jembatan plan check plans/demo/hub/plan",
           {{"--json", "", "one JSON document instead of text"}},
           {"FOLDER", "the plan's folder", true, false},
           check},
          {"plan reload",
           "Let a node read its plan folder again; with an error the active plan stays",
           "jembatan plan reload --lab hub",
           reload_options,
           {},
           reload}};
}

}  // namespace jembatan::cli
