// jembatan ask: one real request to any RADIUS server, both packets shown, the reply judged.
#include <fmt/format.h>
#include <termios.h>
#include <unistd.h>

#include <iostream>
#include <nlohmann/json.hpp>
#include <optional>

#include "base/secret.h"
#include "base/text.h"
#include "cli/command.h"
#include "cli/exchange.h"
#include "cli/names.h"
#include "cli/node_access.h"
#include "cli/packet_text.h"
#include "dictionary/encode.h"
#include "document/parse.h"
#include "host/system.h"
#include "wire/builder.h"
#include "wire/hidden.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;
using wire::AttributeType;
using wire::Code;

constexpr std::string_view kNoAnswerHelp =
    "what may be wrong: the server does not know this address as a client; the shared secret differs;\n"
    "  it ignores such requests; or the way there is blocked. If it is a jembatand, its log and `jembatan "
    "follow` tell which.";

struct Question {
  ExchangeWish wish;
  wire::SharedSecret secret;
  dictionary::CataloguePtr names;
  Octets attributes;
};

Result<Secret> secret_in_file(const std::string& path) {
  const auto text = document::read_file(path);
  if (!text) return text.error();
  if (trim(*text).empty()) return fail(Errc::malformed, fmt::format("file '{}' is empty", path));
  return Secret(trim(*text));
}

Result<Secret> prompt_for_password(const std::string& user) {
  if (isatty(STDIN_FILENO) == 0) {
    return fail(Errc::not_found,
                "no password; give --password-file FILE or --password TEXT, or run on a terminal");
  }
  fmt::print(stderr, "password of {}: ", user);
  termios before{};
  tcgetattr(STDIN_FILENO, &before);
  termios silent = before;
  silent.c_lflag &= ~static_cast<tcflag_t>(ECHO);
  tcsetattr(STDIN_FILENO, TCSAFLUSH, &silent);
  std::string line;
  std::getline(std::cin, line);
  tcsetattr(STDIN_FILENO, TCSAFLUSH, &before);
  fmt::print(stderr, "\n");
  return Secret(line);
}

Status read_wish(const Arguments& arguments, std::uint16_t port, bool accounting, ExchangeWish& wish) {
  if (arguments.has("--lab") == arguments.has("--to")) {
    return fail(Errc::malformed, "where to? Give --to HOST, or --lab NAME for a node of the demo chain");
  }
  if (arguments.has("--lab")) {
    const auto node = find_node(arguments);
    if (!node) return node.error();
    wish.to = accounting ? node->accounting.front() : node->access.front();
  } else {
    const auto to = resolve(arguments.get("--to"), port);
    if (!to) return to.error();
    wish.to = *to;
  }
  wish.from = arguments.get("--from");
  const auto wait = parse_duration(arguments.get("--wait", "3s"));
  if (!wait) return wait.error().at("--wait");
  wish.wait = *wait;
  const std::string tries = arguments.get("--tries", "3");
  if (tries.size() > 2 || tries.find_first_not_of("0123456789") != std::string::npos || tries.empty() ||
      tries == "0") {
    return fail(Errc::malformed, fmt::format("--tries is '{}'; allowed: 1 to 99", tries));
  }
  wish.tries = std::stoi(tries);
  return {};
}

Status read_secret(const Arguments& arguments, Question& question) {
  Result<Secret> secret = fail(Errc::not_found, "no shared secret; give --secret-file FILE or --secret TEXT");
  if (arguments.has("--secret-file")) {
    secret = secret_in_file(arguments.get("--secret-file"));
  } else if (arguments.has("--secret")) {
    secret = Secret(arguments.get("--secret"));
  } else if (arguments.has("--lab")) {
    const auto node = find_node(arguments);
    if (!node) return node.error();
    const auto folder = node->plan_folder.empty() ? node->file.parent_path() / "plan" : node->plan_folder;
    secret = secret_in_file((folder / "secrets" / "tester").string());
  }
  if (!secret) return secret.error();
  question.secret = wire::SharedSecret(std::move(*secret));
  return {};
}

// Names and values are checked before anything is sent; what is hidden can be encoded only for the packet.
struct Given {
  std::string name;
  std::string value;
};

Result<std::vector<Given>> read_attributes(const Arguments& arguments) {
  std::vector<Given> out;
  for (const std::string& given : arguments.positionals()) {
    // A value may contain '='; a name cannot.
    const std::size_t equals = given.find('=');
    if (equals == std::string::npos) {
      return fail(Errc::malformed,
                  fmt::format("'{}' is not ATTRIBUTE=VALUE, like NAS-Port-Type=Virtual", escaped(given)));
    }
    out.push_back({given.substr(0, equals), given.substr(equals + 1)});
  }
  return out;
}

// User-Password as the options give it; nothing with --no-password.
Result<std::optional<Octets>> hidden_password(const Arguments& arguments, const Question& question,
                                              const wire::Authenticator& authenticator) {
  if (arguments.has("--no-password")) return std::optional<Octets>{};
  Result<Secret> password = Secret(arguments.get("--password"));
  if (arguments.has("--password-file")) {
    password = secret_in_file(arguments.get("--password-file"));
  } else if (!arguments.has("--password")) {
    password = prompt_for_password(arguments.get("--user"));
  }
  if (!password) return password.error();
  auto hidden = wire::hide_password(password->reveal(), authenticator, question.secret);
  if (!hidden) return hidden.error();
  return std::optional(std::move(*hidden));
}

// Encodes what was given for a packet with this Request Authenticator.
Status encode_attributes(Question& question, const std::vector<Given>& given,
                         const wire::Authenticator& authenticator) {
  std::uint16_t salt = 0x8001;
  const dictionary::Hide hide = [&](dictionary::Hiding hiding, OctetView value) -> Result<Octets> {
    if (hiding == dictionary::Hiding::user_password) {
      return fail(Errc::malformed, "it is the password: give it with --password-file or --password");
    }
    return wire::hide_salted(value, salt++, authenticator, question.secret);
  };
  for (const Given& one : given) {
    const auto encoded = dictionary::encode(*question.names, one.name, one.value, hide);
    if (!encoded) return encoded.error();
    append(question.attributes, *encoded);
  }
  return {};
}

Result<Question> read_question(const Arguments& arguments, std::uint16_t port, bool accounting,
                               const wire::Authenticator& authenticator) {
  Question out;
  if (Status s = read_wish(arguments, port, accounting, out.wish); !s) return s.error();
  if (Status s = read_secret(arguments, out); !s) return s.error();
  auto names = find_names(arguments);
  if (!names) return names.error();
  out.names = std::move(*names);
  const auto given = read_attributes(arguments);
  if (!given) return given.error();
  if (Status s = encode_attributes(out, *given, authenticator); !s) return s.error();
  return out;
}

bool has_type(const Octets& attributes, AttributeType type) {
  for (std::size_t at = 0; at + 1 < attributes.size(); at += attributes[at + 1]) {
    if (attributes[at] == static_cast<std::uint8_t>(type)) return true;
  }
  return false;
}

// RFC 2865 §4.1, RFC 2866 §4.1: a request says which device it comes from.
Status add_device(const Octets& attributes, wire::PacketBuilder& packet) {
  const bool named = has_type(attributes, AttributeType::nas_identifier) ||
                     has_type(attributes, AttributeType::nas_ip_address) ||
                     has_type(attributes, AttributeType::nas_ipv6_address);
  return named ? Status{} : packet.add(AttributeType::nas_identifier, std::string_view("jembatan-ask"));
}

std::string signature_text(wire::Signature signature) {
  switch (signature) {
    case wire::Signature::valid:
      return "Response Authenticator and Message-Authenticator verify";
    case wire::Signature::wrong:
      return "Message-Authenticator does not verify";
    case wire::Signature::absent:
      break;
  }
  return "Response Authenticator verifies; it has no Message-Authenticator";
}

struct Verdict {
  Exit exit{};
  Colour colour{};
  std::string text;
};

Verdict judge(const Question& question, const ExchangeResult& result) {
  const std::string to = question.wish.to.text();
  switch (result.ended) {
    case Ended::port_closed:
      return {Exit::unreachable, Colour::bad, fmt::format("nobody listens on {} (port unreachable)", to)};
    case Ended::silent:
      return {Exit::unreachable, Colour::bad,
              fmt::format("no answer from {} within {}{}\n  {}", to, text_of(question.wish.wait),
                          result.sent == 1 ? "" : fmt::format(" to any of {} requests", result.sent),
                          kNoAnswerHelp)};
    case Ended::not_genuine:
      return {
          Exit::no, Colour::bad,
          fmt::format(
              "a reply came, but {}:\n  the shared secret differs from the server's, or the reply is forged",
              result.problem)};
    case Ended::replied:
      break;
  }
  const std::string genuine = "the reply is genuine: " + signature_text(result.message_authenticator);
  switch (static_cast<Code>(result.reply[0])) {
    case Code::access_accept:
      return {Exit::done, Colour::good, "accepted; " + genuine};
    case Code::access_reject:
      return {Exit::no, Colour::bad, "rejected; " + genuine};
    case Code::access_challenge:
      return {Exit::no, Colour::warn, "challenged: the server wants to know more; " + genuine};
    case Code::accounting_response:
      return {Exit::done, Colour::good, "recorded; " + genuine};
    default:
      return {Exit::no, Colour::warn, "an unexpected reply; " + genuine};
  }
}

void print_packet(Terminal& terminal, std::string_view arrow, const wire::PacketView& packet,
                  const std::vector<dictionary::Described>& lines, const std::string& where) {
  terminal.line(terminal.coloured(fmt::format("{} {}", arrow, wire::name_of(packet.code())), Colour::bold) +
                fmt::format("  id {}  {}  {} octets", packet.identifier(), where, packet.octets().size()));
  terminal.out(attributes_text(lines));
}

Exit ask(const Question& question, OctetView request, bool as_json, Terminal& terminal) {
  const auto result = exchange(question.wish, request, question.secret);
  if (!result) return report(result.error(), terminal);
  const Verdict verdict = judge(question, *result);
  const auto sent = wire::PacketView::parse(request);
  const auto reply = wire::PacketView::parse(result->reply);
  const auto sent_lines = dictionary::describe(*question.names, *sent);
  std::vector<dictionary::Described> reply_lines;
  if (reply) reply_lines = dictionary::describe(*question.names, *reply);
  if (as_json) {
    json body{{"to", question.wish.to.text()},
              {"request", packet_json(*sent, sent_lines)},
              {"sent", result->sent},
              {"verdict", verdict.text},
              {"reply", nullptr}};
    if (reply) {
      body["reply"] = packet_json(*reply, reply_lines);
      body["genuine"] = result->ended == Ended::replied;
      body["took_us"] = result->took.count();
    }
    terminal.line(body.dump(2));
    return verdict.exit;
  }
  print_packet(terminal, "→", *sent, sent_lines, "to " + question.wish.to.text());
  if (reply) {
    print_packet(terminal, "←", *reply, reply_lines,
                 fmt::format("after {:.1f} ms{}", static_cast<double>(result->took.count()) / 1000,
                             result->sent > 1 ? fmt::format(", sent {} times", result->sent) : ""));
  }
  terminal.line(terminal.coloured(verdict.text, verdict.colour));
  return verdict.exit;
}

wire::PacketBuilder new_packet(Code code, bool zero_authenticator) {
  host::SystemRandom random;
  wire::Authenticator authenticator{};
  std::uint8_t identifier[1];
  if (!zero_authenticator) random.fill(authenticator);
  random.fill(identifier);
  return {code, identifier[0], authenticator};
}

using Sign = void (*)(OctetSpan packet, const wire::SharedSecret& secret);

// Adds what every request has, signs it and asks. `built`: whether what stands in the packet could be put
// there.
Exit complete(const Question& question, wire::PacketBuilder& packet, Status built, Sign sign,
              const Arguments& arguments, Terminal& terminal) {
  if (built) built = add_device(question.attributes, packet);
  if (built) built = packet.add_encoded(question.attributes);
  if (!built) return report(built.error(), terminal);
  const OctetSpan octets = packet.finish();
  sign(octets, question.secret);
  return ask(question, octets, arguments.has("--json"), terminal);
}

Exit ask_access(const Arguments& arguments, Terminal& terminal) {
  wire::PacketBuilder packet = new_packet(Code::access_request, false);
  const wire::Authenticator authenticator = wire::PacketView::parse(packet.finish())->authenticator();
  const auto question = read_question(arguments, 1812, false, authenticator);
  if (!question) return report(question.error(), terminal);
  const std::string user = arguments.get("--user");
  const auto hidden = hidden_password(arguments, *question, authenticator);
  if (!hidden) return report(hidden.error(), terminal);
  Status built;
  if (!arguments.has("--unsigned")) built = packet.add_message_authenticator();
  if (built) built = packet.add(AttributeType::user_name, std::string_view(user));
  if (built && *hidden) built = packet.add(AttributeType::user_password, OctetView(**hidden));
  return complete(*question, packet, built, wire::sign_request, arguments, terminal);
}

Exit ask_accounting(const Arguments& arguments, Terminal& terminal) {
  const auto question = read_question(arguments, 1813, true, wire::Authenticator{});
  if (!question) return report(question.error(), terminal);
  const auto status = dictionary::encode(*question->names, "Acct-Status-Type", arguments.get("--status"));
  if (!status) return report(status.error().at("--status"), terminal);
  wire::PacketBuilder packet = new_packet(Code::accounting_request, true);
  Status built = packet.add_encoded(*status);
  if (built && arguments.has("--session-id")) {
    built = packet.add(AttributeType::acct_session_id, std::string_view(arguments.get("--session-id")));
  }
  if (built && arguments.has("--user")) {
    built = packet.add(AttributeType::user_name, std::string_view(arguments.get("--user")));
  }
  return complete(*question, packet, built, wire::sign_accounting_request, arguments, terminal);
}

Exit ask_status(const Arguments& arguments, Terminal& terminal) {
  const bool accounting = arguments.has("--accounting");
  wire::PacketBuilder packet = new_packet(Code::status_server, false);
  const wire::Authenticator authenticator = wire::PacketView::parse(packet.finish())->authenticator();
  const auto question = read_question(arguments, accounting ? 1813 : 1812, accounting, authenticator);
  if (!question) return report(question.error(), terminal);
  const Status built = packet.add_message_authenticator();
  return complete(*question, packet, built, wire::sign_request, arguments, terminal);
}

std::vector<Option> with_common(std::vector<Option> options) {
  const std::vector<Option> common{
      {"--to", "HOST[:PORT]", "the server to ask; default ports 1812 (access) and 1813 (accounting)"},
      {"--lab", "NAME", "a node of the demo chain instead: edge, hub, reef-1, reef-2"},
      {"--secret-file", "FILE", "file with the shared secret"},
      {"--secret", "TEXT", "the shared secret itself (a file is safer: shells keep a history)"},
      {"--from", "ADDRESS", "local address to send from; default: the system chooses"},
      {"--wait", "TIME", "how long to wait for a reply to each request; default 3s"},
      {"--tries", "NUMBER", "how often the same request is sent; default 3"},
      dictionary_option(),
      {"--json", "", "one JSON document instead of text"},
  };
  options.insert(options.end(), common.begin(), common.end());
  return options;
}

const Positional kAttributes{
    "ATTRIBUTE=VALUE",
    "more attributes, by name or number: NAS-Port-Type=Virtual Tunnel-Type:1=VLAN 26.32473.9=0x0102", false,
    true};

}  // namespace

std::vector<Command> ask_commands() {
  return {
      {"ask access", "Send one Access-Request, show both packets, judge the reply",
       "jembatan ask access --to 192.0.2.1 --secret-file secret --user sari@reef.example "
       "NAS-Port-Type=Wireless-802-11",
       with_common(
           {{"--user", "NAME", "User-Name", true},
            {"--password-file", "FILE", "file with the password"},
            {"--password", "TEXT", "the password itself; without both, it is asked for"},
            {"--no-password", "", "none at all: ask what the user may do (Service-Type=Authorize-Only)"},
            {"--unsigned", "", "leave Message-Authenticator out, as some devices do"}}),
       kAttributes, ask_access},
      {"ask accounting", "Send one Accounting-Request, show both packets, judge the reply",
       "jembatan ask accounting --to 192.0.2.1 --secret-file secret --status Start --session-id 4711 --user "
       "sari@reef.example",
       with_common({{"--status", "NAME",
                     "Acct-Status-Type: Start, Interim-Update, Stop, Accounting-On, Accounting-Off", true},
                    {"--session-id", "TEXT", "Acct-Session-Id"},
                    {"--user", "NAME", "User-Name"}}),
       kAttributes, ask_accounting},
      {"ask status", "Ask whether a server is alive (Status-Server, RFC 5997)",
       "jembatan ask status --to 192.0.2.1 --secret-file secret",
       with_common({{"--accounting", "", "ask the accounting port"}}), kAttributes, ask_status},
  };
}

}  // namespace jembatan::cli
