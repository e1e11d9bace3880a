// jembatan explain: what would become of a request, and why; nothing is sent to anybody.
#include "decide/explain.h"

#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/command.h"
#include "cli/names.h"
#include "cli/node_access.h"
#include "dictionary/encode.h"
#include "document/problems.h"
#include "host/system.h"
#include "plan/read.h"
#include "wire/builder.h"

namespace jembatan::cli {

using nlohmann::json;

namespace {

// Most requests come with one; not those that bring another credential, or ask to be authorized alone.
bool wants_password(OctetView octets) {
  constexpr std::uint32_t kAuthorizeOnly = 17;  // RFC 5176 §3.2
  const auto packet = wire::PacketView::parse(octets);
  return packet && identity::proves_nothing(*packet) &&
         wire::number_in(packet->find(wire::AttributeType::service_type)) != kAuthorizeOnly;
}

// A request as it would come, without a password; nothing is sent anywhere.
Result<Octets> request_of(const Arguments& arguments, const dictionary::Catalogue& names) {
  const bool accounting = arguments.has("--accounting");
  wire::PacketBuilder packet(accounting ? wire::Code::accounting_request : wire::Code::access_request, 0, {});
  Status added;
  if (arguments.has("--user"))
    added = packet.add(wire::AttributeType::user_name, std::string_view(arguments.get("--user")));
  for (const std::string& given : arguments.positionals()) {
    const std::size_t equals = given.find('=');
    if (equals == std::string::npos)
      return fail(Errc::malformed,
                  fmt::format("'{}' is not ATTRIBUTE=VALUE, like NAS-Port-Type=Virtual", escaped(given)));
    const auto octets = dictionary::encode(names, given.substr(0, equals), given.substr(equals + 1));
    if (!octets) return octets.error();
    if (added) added = packet.add_encoded(*octets);
  }
  if (added && !accounting && !arguments.has("--no-password") && wants_password(packet.finish())) {
    const Octets hidden(16);
    added = packet.add(wire::AttributeType::user_password, OctetView(hidden));
  }
  if (!added) return added.error();
  const OctetSpan octets = packet.finish();
  return Octets(octets.begin(), octets.end());
}

bool is_good(const json& body) {
  const std::string outcome = body.value("outcome", "");
  return outcome == "accept" || outcome == "forward" || outcome == "record";
}

Exit print_explanation(const json& body, Terminal& terminal) {
  const bool good = is_good(body);
  for (const json& line : body.at("trail")) terminal.line("  " + line.get<std::string>());
  terminal.line(terminal.coloured(body.value("summary", ""), good ? Colour::good : Colour::bad));
  return good ? Exit::done : Exit::no;
}

// A plan in a folder, which no node has to have in force.
Result<json> explain_folder(const Arguments& arguments) {
  document::Problems problems;
  const auto plan = plan::read_folder(arguments.get("--plan"), problems);
  if (!plan) return fail(Errc::malformed, problems.text() + problems.count_text());
  const auto client = plan::find_client(*plan, arguments.get("--client"));
  if (!client) return client.error();
  const auto octets = request_of(arguments, *plan->catalogue);
  if (!octets) return octets.error();
  WallTime now = host::SystemClock().now().wall;
  if (arguments.has("--at")) {
    const auto at = parse_moment(arguments.get("--at"), now);
    if (!at) return at.error();
    now = *at;
  }
  const auto packet = wire::PacketView::parse(*octets);
  const auto assumed = decide::assumed_in(arguments.get("--assume"));
  if (!assumed) return assumed.error().at("--assume");
  const auto explanation =
      decide::explain({*plan, *packet, **client, arguments.has("--accounting"), now}, *assumed);
  json trail = json::array();
  for (const std::string& line : explanation.lines) trail.push_back(line);
  return json{
      {"outcome", decide::name_of(explanation.outcome)}, {"summary", explanation.summary}, {"trail", trail}};
}

Result<json> explain_at_node(const Arguments& arguments) {
  const auto names = find_names(arguments);
  if (!names) return names.error();
  const auto octets = request_of(arguments, **names);
  if (!octets) return octets.error();
  auto node = NodeClient::open(arguments);
  if (!node) return node.error();
  json body{{"client", arguments.get("--client")},
            {"packet", to_hex(*octets)},
            {"assume", arguments.get("--assume", "proven")}};
  if (arguments.has("--at")) body["at"] = arguments.get("--at");
  return node->post("/v1/explain", body);
}

// What a person would be asked for, and where that would fail.
void print_factors(const json& body, Terminal& terminal) {
  if (body.at("passwords_wait").is_string())
    terminal.line("  passwords: none is looked at for " + body.value("passwords_wait", "") +
                  ", too many were wrong in a row");
  for (const json& one : body.at("factors")) {
    std::vector<std::string> tokens;
    for (const json& token : one.at("tokens")) tokens.push_back("'" + token.get<std::string>() + "'");
    const std::string trouble = one.value("trouble", "");
    terminal.line(fmt::format(
        "  factor '{}' is asked for: {}{}{}", one.value("factor", ""),
        tokens.empty() ? "no token" : "any of " + join(tokens, ", "),
        one.value("wrong", 0) == 0 ? "" : fmt::format(", {} wrong in a row", one.value("wrong", 0)),
        trouble.empty() ? "" : ", " + trouble));
  }
}

Exit check_user(const Arguments& arguments, Terminal& terminal) {
  const auto names = find_names(arguments);
  if (!names) return report(names.error(), terminal);
  auto asking = arguments;
  asking.set("--user", arguments.positionals().front());
  asking.set_positionals({arguments.positionals().begin() + 1, arguments.positionals().end()});
  const auto octets = request_of(asking, **names);
  if (!octets) return report(octets.error(), terminal);
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  json wish{{"client", arguments.get("--client")}, {"packet", to_hex(*octets)}};
  if (arguments.has("--at")) wish["at"] = arguments.get("--at");
  const auto body = node->post("/v1/users/check", wish);
  if (!body) return report(body.error(), terminal);
  if (arguments.has("--json")) {
    terminal.line(body->dump(2));
    return is_good(*body) ? Exit::done : Exit::no;
  }
  json shown = *body;
  for (const json& line : shown.at("trail")) terminal.line("  " + line.get<std::string>());
  print_factors(shown, terminal);
  shown["trail"] = json::array();
  return print_explanation(shown, terminal);
}

Exit explain(const Arguments& arguments, Terminal& terminal) {
  const auto body = arguments.has("--plan") ? explain_folder(arguments) : explain_at_node(arguments);
  if (!body) return report(body.error(), terminal);
  if (!arguments.has("--json")) return print_explanation(*body, terminal);
  terminal.line(body->dump(2));
  return is_good(*body) ? Exit::done : Exit::no;
}

}  // namespace

std::vector<Command> explain_commands() {
  std::vector<Option> options{
      {"--client", "NAME", "the client that would ask", true},
      {"--user", "NAME", "User-Name"},
      {"--assume", "TEXT",
       fmt::format("what is taken for granted of password and directory, with commas: {}; default: proven",
                   decide::kAssumptions)},
      {"--accounting", "", "an accounting request instead of an access request"},
      {"--no-password", "", "a request without a password, whose method is 'none'"},
      {"--at", "TIME", "at this time: 04:30, 2026-11-23 02:00 (UTC), or RFC 3339; default: now"},
      {"--plan", "FOLDER", "by the plan in this folder instead of the one that a node has in force"}};
  for (Option& option : node_options()) options.push_back(std::move(option));
  options.push_back({"--json", "", "one JSON document instead of text"});
  return {
      {"explain",
       "Decide a request without sending it, and tell every step; exit code 1: refused or ignored",
       "jembatan explain --client kerapu --user sari@reef.example NAS-Port-Type=Wireless-802-11 --lab hub",
       std::move(options),
       {"ATTRIBUTE=VALUE", "attributes of the request, by dictionary name", false, true},
       explain}};
}

std::vector<Command> user_check_commands() {
  return {{"user check",
           "Find out what somebody would be asked for who knows the password, and where it would fail: the "
           "directory is asked, rules are gone through, tokens and locks looked at; nothing is noted",
           "jembatan user check indah@harbour.example --client kerapu NAS-Port-Type=Virtual --lab hub",
           reading_options({{"--client", "NAME", "the client that would ask", true},
                            {"--no-password", "", "the client has checked the password"},
                            {"--at", "TIME", "at this time, as in explain; default: now"}}),
           {"USER [ATTRIBUTE=VALUE]", "the name as it would come, and attributes of the request", true, true},
           check_user}};
}

}  // namespace jembatan::cli
