// jembatan session disconnect, session change: the device of a session is asked, over as many hops as there
// are.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/error_cause.h"
#include "cli/node_access.h"
#include "cli/packet_text.h"
#include "cli/session_number.h"
#include "decide/reasons.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;

// ATTRIBUTE=VALUE; a value may contain '='.
Result<json> attributes_of(const std::vector<std::string>& given) {
  json out = json::array();
  for (const std::string& one : given) {
    const std::size_t equals = one.find('=');
    if (equals == std::string::npos || equals == 0)
      return fail(Errc::malformed,
                  fmt::format("'{}' is not ATTRIBUTE=VALUE, like Filter-Id=harbour-only", escaped(one)));
    out.push_back({{"name", one.substr(0, equals)}, {"value", one.substr(equals + 1)}});
  }
  return out;
}

void print_attributes(const json& attributes, Terminal& out) {
  for (const json& one : attributes)
    out.line(fmt::format("  {}{}  {}", std::string(2 * one.value("depth", std::size_t{0}), ' '),
                         one.value("name", ""), value_text(one.at("value"))));
}

// What the device said, and what to do if it did not.
Exit print_answer(const json& body, const Arguments& arguments, Terminal& terminal) {
  const bool none = body.at("answer").is_null();
  const bool done = !none && body["answer"].get<std::string>().ends_with("-ACK");
  const Exit exit = none ? Exit::unreachable : done ? Exit::done : Exit::no;
  if (arguments.has("--json")) {
    terminal.line(body.dump(2));
    return exit;
  }
  const std::string client = body.value("client", "");
  terminal.line(fmt::format("session {} of {}: {} to client {}{}",
                            accounting::session_number(body.value("number", std::int64_t{0})),
                            body.value("user", ""), body.value("asked", ""), client.empty() ? "?" : client,
                            body.contains("at") ? " at " + body.value("at", "") : ""));
  if (none) {
    const std::string why = body.value("why", "");
    terminal.line(terminal.coloured("no answer: " + why, Colour::bad));
    if (why.starts_with(decide::kTakesNoSuchRequests))
      terminal.line(fmt::format("if it does: jembatan client set {} authorization_port=3799", client));
    else if (!client.empty())
      terminal.line(fmt::format("what the plan says of it: jembatan client show {}", client));
    return exit;
  }
  terminal.line(fmt::format("{} after {:.1f} ms", body.value("answer", ""),
                            static_cast<double>(body.value("took_us", 0)) / 1000));
  print_attributes(body.at("attributes"), terminal);
  if (done) {
    const bool end = body.value("asked", "") == "Disconnect-Request";
    terminal.line(terminal.coloured(
        end ? "the device ends the session; its Stop follows" : "the device has changed the session",
        Colour::good));
    return exit;
  }
  const json& cause = body.at("error_cause");
  terminal.line(terminal.coloured(
      "refused: " +
          error_cause_text(cause.is_null() ? std::nullopt : std::optional(cause.get<std::uint32_t>())),
      Colour::bad));
  if (!cause.is_null() && is_of_proxies(cause.get<std::uint32_t>()))
    terminal.line(
        "the hop that could not go on says why: jembatan journal search --since 5m, at each on the way");
  return exit;
}

Exit ask_node(const Arguments& arguments, Terminal& terminal, const char* path, Result<json> body) {
  if (!body) return report(body.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  const auto came = node->post(path, *body);
  if (!came) return report(came.error(), terminal);
  return print_answer(*came, arguments, terminal);
}

Exit disconnect_session(const Arguments& arguments, Terminal& terminal) {
  const auto number = session_of(arguments);
  return ask_node(arguments, terminal, "/v1/sessions/disconnect",
                  number ? Result<json>(json{{"number", *number}}) : Result<json>(number.error()));
}

Exit change_session(const Arguments& arguments, Terminal& terminal) {
  const auto number = session_of(arguments);
  if (!number) return report(number.error(), terminal);
  const auto attributes = attributes_of({arguments.positionals().begin() + 1, arguments.positionals().end()});
  return ask_node(arguments, terminal, "/v1/sessions/change",
                  attributes ? Result<json>(json{{"number", *number}, {"attributes", *attributes}})
                             : Result<json>(attributes.error()));
}

}  // namespace

std::vector<Command> session_device_commands() {
  return {{"session disconnect",
           "Have the device of an open session end it (Disconnect-Request, RFC 5176)",
           "jembatan session disconnect 12 --lab reef-1",
           reading_options(),
           {"NUMBER", "its number, as session list tells it", true, false},
           disconnect_session},
          {"session change",
           "Have the device of an open session treat it otherwise (CoA-Request, RFC 5176)",
           "jembatan session change 12 Filter-Id=harbour-only --lab reef-1",
           reading_options(),
           {"NUMBER ATTRIBUTE=VALUE", "its number, as session list tells it, and what is to be in force",
            true, true},
           change_session}};
}

}  // namespace jembatan::cli
