// jembatan plan preview: what a folder's plan would make of requests that have happened.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "cli/bundle.h"
#include "cli/listing.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

void print_preview(const json& body, Terminal& terminal) {
  for (const json& row : body.at("otherwise")) {
    const std::string would = row.value("would", "");
    const std::string server = row.value("server", "");
    terminal.line(fmt::format("request {}  {} UTC  {} by {}: {} ({}){}",
                              row.value("number", std::uint64_t{0}), short_time(row.value("at", "")),
                              row.value("user", ""), row.value("client", ""), row.value("outcome", ""),
                              row.value("reason", ""), server.empty() ? "" : " [" + server + "]"));
    if (!would.empty()) terminal.line("    " + terminal.coloured("would be " + would, Colour::warn));
    for (const json& difference : row.at("differences"))
      terminal.line("    its reply: " + terminal.coloured(difference.get<std::string>(), Colour::warn));
  }
  const auto differ = body.value("differ", std::size_t{0});
  const auto shown = body.at("otherwise").size();
  std::string end = fmt::format("{} looked at: {} would go otherwise",
                                counted(body.value("looked_at", std::size_t{0}), "request"), differ);
  if (shown < differ) end += fmt::format(" (the newest {} are shown: --most)", shown);
  if (const auto not_told = body.value("not_told", std::size_t{0}); not_told > 0)
    end += fmt::format(
        "; of {} it cannot be said, for nobody here has found out whether the password was right", not_told);
  terminal.line(terminal.coloured(end, differ == 0 ? Colour::good : Colour::warn));
  if (body.at("stopped_before").is_number())
    terminal.line(fmt::format("it took long: requests before {} were not looked at",
                              body.value("stopped_before", std::uint64_t{0})));
}

Exit preview(const Arguments& arguments, Terminal& terminal) {
  auto body = bundle_of(arguments.positionals().front());
  if (!body) return report(body.error(), terminal);
  for (const auto& [option, key] : {std::pair{"--since", "since"},
                                    {"--until", "until"},
                                    {"--user", "user"},
                                    {"--client", "client"},
                                    {"--realm", "realm"}})
    if (arguments.has(option)) (*body)[key] = arguments.get(option);
  if (!arguments.has("--since")) (*body)["since"] = "1h";
  const std::string most = arguments.get("--most", "20");
  if (most.empty() || most.size() > 5 || most.find_first_not_of("0123456789") != std::string::npos)
    return report(
        fail(Errc::malformed, fmt::format("--most '{}'; allowed: a number to 10000", escaped(most))),
        terminal);
  (*body)["most"] = std::stoul(most);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto found = node->post("/v1/plan/preview", *body);
  if (!found) return report(found.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(found->dump(2));
  } else {
    print_preview(*found, terminal);
  }
  return found->value("differ", 0) == 0 ? Exit::done : Exit::no;
}

}  // namespace

Command plan_preview_command() {
  return {
      "plan preview",
      "Decide requests that have happened by a folder's plan, and say which would go otherwise; exit code 1: "
      "some would",
      "jembatan plan preview hub-plan --since 1h --lab hub",
      reading_options({{"--since", "TIME",
                        "from then on: 10m (that long ago), 04:30, 2026-11-23, or RFC 3339; UTC; default 1h"},
                       filter("--until"),
                       filter("--user"),
                       filter("--client"),
                       filter("--realm"),
                       {"--most", "NUMBER", "how many are shown at the most; default 20"}}),
      {"FOLDER", "the plan's folder", true, false},
      preview};
}

}  // namespace jembatan::cli
