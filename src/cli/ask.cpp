// jembatan ask: one real request to any RADIUS server, both packets shown, the reply judged.
#include <fmt/format.h>

#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/error_cause.h"
#include "cli/expectation.h"
#include "cli/names.h"
#include "cli/node_access.h"
#include "cli/packet_text.h"
#include "cli/peer.h"
#include "cli/question.h"
#include "cli/secrets.h"
#include "identity/credential.h"

namespace jembatan::cli {
namespace {

using nlohmann::json;
using wire::AttributeType;
using wire::Code;

constexpr std::string_view kNoAnswerHelp =
    "what may be wrong: the server does not know this address as a client; the shared secret differs;\n"
    "  it ignores such requests; or the way there is blocked. If it is a jembatand, its log and `jembatan "
    "follow` tell which.";

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

Verdict judge(const Question& question, const Exchanged& exchanged) {
  const std::string to = question.wish().to.text();
  const ExchangeResult& result = exchanged.result;
  const auto asked = static_cast<Code>(exchanged.request[0]);
  switch (result.ended) {
    case Ended::port_closed:
      return {Exit::unreachable, Colour::bad, fmt::format("nobody listens on {} (port unreachable)", to)};
    case Ended::silent:
      return {Exit::unreachable, Colour::bad,
              fmt::format("no answer from {} within {}{}\n  {}", to, text_of(question.wish().wait),
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
  const bool of_session = reply >= Code::disconnect_request && reply <= Code::coa_nak;
  if (of_session != question.is_of_session() ||
      (of_session && (reply > Code::disconnect_nak) != (asked == Code::coa_request)))
    return {Exit::no, Colour::warn,
            fmt::format("an unexpected reply, {}; {}", wire::name_of(reply), genuine)};
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
    case Code::disconnect_ack:
      return {Exit::done, Colour::good, "the session is ended; " + genuine};
    case Code::coa_ack:
      return {Exit::done, Colour::good, "the session is changed; " + genuine};
    case Code::disconnect_nak:
    case Code::coa_nak:
      return {Exit::no, Colour::bad,
              "refused: " +
                  error_cause_text(wire::number_in(exchanged.reply()->find(AttributeType::error_cause))) +
                  "; " + genuine};
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
bool proves_too(const std::string& proof, const wire::PacketView& reply) {
  const auto success = identity::find_microsoft(reply, identity::MicrosoftType::success_2);
  return success && success->size() > 1 && text_of(success->subspan(1)).starts_with(proof);
}

/// One command: what is asked, and what is expected.
struct Inquiry {
  const Arguments& arguments;
  Terminal& terminal;
  Question question;
  std::vector<dictionary::Described> expected;
};

// Adds what differs from what was expected.
void compare(const Inquiry& inquiry, const Exchanged& exchanged,
             const std::vector<dictionary::Described>& lines, Verdict& verdict) {
  std::vector<std::string> differ = differences_from(inquiry.expected, lines);
  const wire::PacketView reply = *exchanged.reply();
  if (reply.code() == Code::access_accept && !exchanged.proof_of_both.empty() &&
      !proves_too(exchanged.proof_of_both, reply))
    differ.emplace_back("the server does not prove that it knows the password (MS-CHAP2-Success)");
  if (differ.empty()) {
    if (!inquiry.expected.empty()) verdict.text += "; it has what was expected";
    return;
  }
  for (const std::string& one : differ) verdict.text += "\n  but " + one;
  verdict.exit = Exit::no;
  verdict.colour = Colour::bad;
}

/// One exchange, as it is shown: to people at once, as JSON when all is over.
struct Asked {
  Verdict verdict;
  Exchanged exchanged;
  json body;
};

Asked show(const Inquiry& inquiry, const std::string& what, Exchanged exchanged) {
  const Question& question = inquiry.question;
  Asked out{judge(question, exchanged), std::move(exchanged), {}};
  const ExchangeResult& result = out.exchanged.result;
  const auto sent = wire::PacketView::parse(out.exchanged.request);
  const auto reply = wire::PacketView::parse(result.reply);
  const auto sent_lines = dictionary::describe(question.names(), *sent);
  std::vector<dictionary::Described> reply_lines;
  if (reply) reply_lines = dictionary::describe(question.names(), *reply);
  if (result.ended == Ended::replied) compare(inquiry, out.exchanged, reply_lines, out.verdict);
  if (inquiry.arguments.has("--json")) {
    out.body = {{"to", question.wish().to.text()},
                {"request", packet_json(*sent, sent_lines)},
                {"sent", result.sent},
                {"verdict", out.verdict.text},
                {"reply", nullptr}};
    if (reply) {
      out.body["reply"] = packet_json(*reply, reply_lines);
      out.body["genuine"] = result.ended == Ended::replied;
      out.body["took_us"] = result.took.count();
    }
    return out;
  }
  Terminal& terminal = inquiry.terminal;
  terminal.line(fmt::format("asking {}: {}", question.whom(), what));
  print_packet(terminal, "→", *sent, sent_lines, "to " + question.wish().to.text());
  if (reply) {
    print_packet(terminal, "←", *reply, reply_lines,
                 fmt::format("after {:.1f} ms{}", static_cast<double>(result.took.count()) / 1000,
                             result.sent > 1 ? fmt::format(", sent {} times", result.sent) : ""));
  }
  terminal.line(terminal.coloured(out.verdict.text, out.verdict.colour));
  return out;
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

Exit ask(const Arguments& arguments, Terminal& terminal,
         Result<Question> (*prepare)(const Arguments& arguments)) {
  auto question = prepare(arguments);
  if (!question) return report(question.error(), terminal);
  auto expected = read_expectations(arguments, question->names());
  if (!expected) return report(expected.error(), terminal);
  const Inquiry inquiry{arguments, terminal, std::move(*question), std::move(*expected)};
  auto exchanged = inquiry.question.ask();
  if (!exchanged) return report(exchanged.error(), terminal);
  Asked asked = show(inquiry, inquiry.question.what(), std::move(*exchanged));
  json rounds = json::array();
  for (auto reply = asked.exchanged.reply(); reply && reply->code() == Code::access_challenge;
       reply = asked.exchanged.reply()) {
    const auto given = answer_to(*reply, arguments, rounds.size());
    if (!given) break;
    exchanged = inquiry.question.answer(*reply, *given);
    if (!exchanged) return report(exchanged.error(), terminal);
    rounds.push_back(std::move(asked.body));
    asked = show(inquiry, "the answer to its challenge", std::move(*exchanged));
  }
  if (!asked.body.is_null()) {
    if (!rounds.empty()) asked.body["rounds_before"] = std::move(rounds);
    terminal.line(asked.body.dump(2));
  }
  return asked.verdict.exit;
}

Exit ask_access(const Arguments& arguments, Terminal& terminal) {
  return ask(arguments, terminal, &Question::access);
}
Exit ask_accounting(const Arguments& arguments, Terminal& terminal) {
  return ask(arguments, terminal, &Question::accounting);
}
Exit ask_status(const Arguments& arguments, Terminal& terminal) {
  return ask(arguments, terminal, &Question::status);
}

Exit ask_disconnect(const Arguments& arguments, Terminal& terminal) {
  return ask(arguments, terminal, &Question::disconnect);
}
Exit ask_coa(const Arguments& arguments, Terminal& terminal) {
  return ask(arguments, terminal, &Question::coa);
}

std::vector<Option> with_common(std::vector<Option> options, std::vector<Option> peer = peer_options()) {
  for (Option& option : peer) options.push_back(std::move(option));
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
  const std::vector<Option> of_session{{"--session-id", "TEXT", "Acct-Session-Id"},
                                       {"--user", "NAME", "User-Name"},
                                       {"--unsigned", "", "leave Message-Authenticator out"}};
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
            {"--token-file", "FILE",
             "file with a token's secret, in Base32: {code} in password and answer is its code of now"},
            {"--token", "SECRET", "the secret itself, of a lab: others on this machine can see it"},
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
      {"ask disconnect", "Ask a device to end a session (Disconnect-Request, RFC 5176)",
       "jembatan ask disconnect --to 192.0.2.7 --secret-file secret --session-id 4711 NAS-Port=3",
       with_common(of_session, device_options()), kAttributes, ask_disconnect},
      {"ask coa", "Ask a device to treat a session otherwise (CoA-Request, RFC 5176)",
       "jembatan ask coa --to 192.0.2.7 --secret-file secret --session-id 4711 Filter-Id=harbour-only",
       with_common(of_session, device_options()), kAttributes, ask_coa},
      ask_load_command(),
  };
}

}  // namespace jembatan::cli
