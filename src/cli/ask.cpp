// jembatan ask: one real request to any RADIUS server, both packets shown, the reply judged.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/secret.h"
#include "base/text.h"
#include "cli/command.h"
#include "cli/credential.h"
#include "cli/exchange.h"
#include "cli/expectation.h"
#include "cli/names.h"
#include "cli/node_access.h"
#include "cli/packet_text.h"
#include "cli/peer.h"
#include "cli/secrets.h"
#include "dictionary/encode.h"
#include "host/system.h"
#include "identity/credential.h"
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

// Names and values are checked before anything is sent; what is hidden can be encoded only for the packet.
struct Given {
  std::string name;
  std::string value;
};

struct Question {
  ExchangeWish wish;
  std::string whom;  // is asked, in words
  std::string what;  // is asked, in words
  wire::SharedSecret secret;
  dictionary::CataloguePtr names;
  std::vector<Given> given;
  Octets attributes;  // what was given, for one packet
  std::vector<dictionary::Described> expected;
  std::string proof_of_both;  // what MS-CHAP2-Success must say; empty: another method
};

Status read_wish(const Arguments& arguments, ExchangeWish& wish) {
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

// What proves the password, by the method of --method; nothing with --no-password.
Result<Credential> read_credential(const Arguments& arguments, const Question& question,
                                   const wire::Authenticator& authenticator) {
  if (arguments.has("--no-password")) return Credential{};
  const auto method = method_named(arguments.get("--method", "pap"));
  if (!method) return method.error().at("--method");
  const std::string user = arguments.get("--user");
  const auto password =
      arguments.has("--password-file") ? secret_in_file(arguments.get("--password-file"))
      : arguments.has("--password")
          ? Result<Secret>(Secret(arguments.get("--password")))
          : typed_secret("password of " + user, "give --password-file FILE or --password TEXT");
  if (!password) return password.error();
  host::SystemRandom random;
  return prove({*method, user, *password}, authenticator, question.secret, random);
}

// Encodes what was given for a packet with this Request Authenticator.
Status encode_attributes(Question& question, const wire::Authenticator& authenticator) {
  question.attributes.clear();
  std::uint16_t salt = 0x8001;
  const dictionary::Hide hide = [&](dictionary::Hiding hiding, OctetView value) -> Result<Octets> {
    if (hiding == dictionary::Hiding::user_password) {
      return fail(Errc::malformed, "it is the password: give it with --password-file or --password");
    }
    return wire::hide_salted(value, salt++, authenticator, question.secret);
  };
  for (const Given& one : question.given) {
    const auto encoded = dictionary::encode(*question.names, one.name, one.value, hide);
    if (!encoded) return encoded.error();
    append(question.attributes, *encoded);
  }
  return {};
}

Result<Question> read_question(const Arguments& arguments, PortOf port,
                               const wire::Authenticator& authenticator) {
  Question out;
  if (Status s = read_wish(arguments, out.wish); !s) return s.error();
  auto peer = find_peer(arguments, port);
  if (!peer) return peer.error();
  out.wish.to = peer->to;
  out.wish.from = peer->from;
  out.whom = peer->called;
  out.secret = wire::SharedSecret(std::move(peer->secret));
  auto names = find_names(arguments);
  if (!names) return names.error();
  out.names = std::move(*names);
  auto expected = read_expectations(arguments, *out.names);
  if (!expected) return expected.error();
  out.expected = std::move(*expected);
  auto given = read_attributes(arguments);
  if (!given) return given.error();
  out.given = std::move(*given);
  if (Status s = encode_attributes(out, authenticator); !s) return s.error();
  return out;
}

// RFC 2865 §4.1, RFC 2866 §4.1: a request says which device it comes from.
Status add_device(const Octets& attributes, wire::PacketBuilder& packet) {
  const bool named = wire::has_attribute(attributes, AttributeType::nas_identifier) ||
                     wire::has_attribute(attributes, AttributeType::nas_ip_address) ||
                     wire::has_attribute(attributes, AttributeType::nas_ipv6_address);
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

Verdict judge(const Question& question, Code asked, const ExchangeResult& result) {
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
  const auto reply = static_cast<Code>(result.reply[0]);
  if (asked == Code::status_server && (reply == Code::access_accept || reply == Code::accounting_response))
    return {Exit::done, Colour::good, "the server is alive; " + genuine};
  switch (reply) {
    case Code::access_accept:
      return {Exit::done, Colour::good, "accepted; " + genuine};
    case Code::access_reject:
      return {Exit::no, Colour::bad, "rejected; " + genuine};
    case Code::access_challenge:
      return {Exit::no, Colour::warn,
              "challenged: the server wants to know more (--answer TEXT); " + genuine};
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

// A server that knows the password proves it, too (RFC 2759 §5).
bool proves_too(const Question& question, const wire::PacketView& reply) {
  const auto success = identity::find_microsoft(reply, identity::MicrosoftType::success_2);
  return success && success->size() > 1 && text_of(success->subspan(1)).starts_with(question.proof_of_both);
}

// Adds what differs from what was expected.
void compare(const Question& question, const wire::PacketView& reply,
             const std::vector<dictionary::Described>& lines, Verdict& verdict) {
  std::vector<std::string> differ = differences_from(question.expected, lines);
  const bool accepted = reply.code() == Code::access_accept;
  if (accepted && !question.proof_of_both.empty() && !proves_too(question, reply))
    differ.emplace_back("the server does not prove that it knows the password (MS-CHAP2-Success)");
  if (differ.empty()) {
    if (!question.expected.empty()) verdict.text += "; it has what was expected";
    return;
  }
  for (const std::string& one : differ) verdict.text += "\n  but " + one;
  verdict.exit = Exit::no;
  verdict.colour = Colour::bad;
}

// One exchange, as it is shown: to people at once, as JSON when all is over.
struct Asked {
  Verdict verdict;
  Octets reply;  // genuine; empty: none
  json body;
};

Result<Asked> ask(const Question& question, OctetView request, const Arguments& arguments,
                  Terminal& terminal) {
  const auto result = exchange(question.wish, request, question.secret);
  if (!result) return result.error();
  Asked out{judge(question, static_cast<Code>(request[0]), *result), {}, {}};
  const auto sent = wire::PacketView::parse(request);
  const auto reply = wire::PacketView::parse(result->reply);
  const auto sent_lines = dictionary::describe(*question.names, *sent);
  std::vector<dictionary::Described> reply_lines;
  if (reply) reply_lines = dictionary::describe(*question.names, *reply);
  if (result->ended == Ended::replied) {
    compare(question, *reply, reply_lines, out.verdict);
    out.reply = result->reply;
  }
  if (arguments.has("--json")) {
    out.body = {{"to", question.wish.to.text()},
                {"request", packet_json(*sent, sent_lines)},
                {"sent", result->sent},
                {"verdict", out.verdict.text},
                {"reply", nullptr}};
    if (reply) {
      out.body["reply"] = packet_json(*reply, reply_lines);
      out.body["genuine"] = result->ended == Ended::replied;
      out.body["took_us"] = result->took.count();
    }
    return out;
  }
  terminal.line(fmt::format("asking {}: {}", question.whom, question.what));
  print_packet(terminal, "→", *sent, sent_lines, "to " + question.wish.to.text());
  if (reply) {
    print_packet(terminal, "←", *reply, reply_lines,
                 fmt::format("after {:.1f} ms{}", static_cast<double>(result->took.count()) / 1000,
                             result->sent > 1 ? fmt::format(", sent {} times", result->sent) : ""));
  }
  terminal.line(terminal.coloured(out.verdict.text, out.verdict.colour));
  return out;
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
Result<Asked> complete(const Question& question, wire::PacketBuilder& packet, Status built, Sign sign,
                       const Arguments& arguments, Terminal& terminal) {
  if (built) built = add_device(question.attributes, packet);
  if (built) built = packet.add_encoded(question.attributes);
  if (!built) return built.error();
  const OctetSpan octets = packet.finish();
  sign(octets, question.secret);
  return ask(question, octets, arguments, terminal);
}

Exit finish(const Result<Asked>& asked, Terminal& terminal) {
  if (!asked) return report(asked.error(), terminal);
  if (!asked->body.is_null()) terminal.line(asked->body.dump(2));
  return asked->verdict.exit;
}

// Of --answer, or typed; nothing if nobody can be asked.
std::optional<Secret> answer_to(const wire::PacketView& challenge, const Arguments& arguments,
                                std::size_t round) {
  const auto answers = arguments.all("--answer");
  if (round < answers.size()) return Secret(answers[round]);
  const auto message = wire::text_in(challenge.find(AttributeType::reply_message));
  auto typed = typed_secret(message.empty() ? "answer" : escaped(message), "give --answer TEXT");
  if (!typed) return std::nullopt;
  return std::move(*typed);
}

// The next round has the answer in the place of the password, and the State of the challenge (RFC 2865 §4.4).
Result<Asked> answer(Question& question, const wire::PacketView& challenge, const Secret& given,
                     const Arguments& arguments, Terminal& terminal) {
  wire::PacketBuilder packet = new_packet(Code::access_request, false);
  const wire::Authenticator authenticator = wire::PacketView::parse(packet.finish())->authenticator();
  Status built = encode_attributes(question, authenticator);
  const auto hidden = wire::hide_password(given.reveal(), authenticator, question.secret);
  if (!hidden) return hidden.error().at("--answer");
  if (built) built = packet.add_message_authenticator();
  if (built) built = packet.add(AttributeType::user_name, std::string_view(arguments.get("--user")));
  if (built) built = packet.add(AttributeType::user_password, *hidden);
  const auto state = challenge.find(AttributeType::state);
  if (built && state) built = packet.add(AttributeType::state, state->value);
  return complete(question, packet, built, wire::sign_request, arguments, terminal);
}

Exit ask_access(const Arguments& arguments, Terminal& terminal) {
  wire::PacketBuilder packet = new_packet(Code::access_request, false);
  const wire::Authenticator authenticator = wire::PacketView::parse(packet.finish())->authenticator();
  auto question = read_question(arguments, PortOf::access, authenticator);
  if (!question) return report(question.error(), terminal);
  const std::string user = arguments.get("--user");
  auto credential = read_credential(arguments, *question, authenticator);
  if (!credential) return report(credential.error(), terminal);
  question->proof_of_both = std::move(credential->proof_of_both);
  question->what =
      fmt::format("may {} sign in{}?", escaped(user),
                  arguments.has("--no-password") ? ", without a password"
                                                 : " (" + arguments.get("--method", "pap") + ")");
  Status built;
  if (!arguments.has("--unsigned")) built = packet.add_message_authenticator();
  if (built) built = packet.add(AttributeType::user_name, std::string_view(user));
  if (built) built = packet.add_encoded(credential->attributes);
  auto asked = complete(*question, packet, built, wire::sign_request, arguments, terminal);
  question->proof_of_both.clear();
  question->what = "the answer to its challenge";
  json rounds = json::array();
  while (asked && !asked->reply.empty()) {
    const wire::PacketView challenge = *wire::PacketView::parse(asked->reply);
    if (challenge.code() != Code::access_challenge) break;
    const auto given = answer_to(challenge, arguments, rounds.size());
    if (!given) break;
    rounds.push_back(std::move(asked->body));
    asked = answer(*question, challenge, *given, arguments, terminal);
  }
  if (asked && !rounds.empty() && !asked->body.is_null()) asked->body["rounds_before"] = std::move(rounds);
  return finish(asked, terminal);
}

Exit ask_accounting(const Arguments& arguments, Terminal& terminal) {
  auto question = read_question(arguments, PortOf::accounting, wire::Authenticator{});
  if (!question) return report(question.error(), terminal);
  question->what = fmt::format(
      "to keep a record: {}{}{}", arguments.get("--status"),
      arguments.has("--session-id") ? " of session " + escaped(arguments.get("--session-id")) : "",
      arguments.has("--user") ? " of " + escaped(arguments.get("--user")) : "");
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
  return finish(complete(*question, packet, built, wire::sign_accounting_request, arguments, terminal),
                terminal);
}

Exit ask_status(const Arguments& arguments, Terminal& terminal) {
  const bool accounting = arguments.has("--accounting");
  wire::PacketBuilder packet = new_packet(Code::status_server, false);
  const wire::Authenticator authenticator = wire::PacketView::parse(packet.finish())->authenticator();
  auto question = read_question(arguments, accounting ? PortOf::accounting : PortOf::access, authenticator);
  if (!question) return report(question.error(), terminal);
  question->what = "is it alive?";
  const Status built = packet.add_message_authenticator();
  return finish(complete(*question, packet, built, wire::sign_request, arguments, terminal), terminal);
}

std::vector<Option> with_common(std::vector<Option> options) {
  for (Option& option : peer_options()) options.push_back(std::move(option));
  const std::vector<Option> common{
      expect_option(),
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
    "more attributes, by name or number: NAS-Port-Type=Virtual Tunnel-Type[1]=VLAN 26.32473.9=0x0102", false,
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
            {"--method", "NAME", "how the password is proved: pap, chap, ms-chap, ms-chap-v2; default pap"},
            {"--no-password", "", "none at all: ask what the user may do (Service-Type=Authorize-Only)"},
            {"--answer",
             "TEXT",
             "the answer to an Access-Challenge, once for each in their order; without, it is asked for",
             false,
             {},
             true},
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
