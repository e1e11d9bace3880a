#include "cli/question.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "cli/names.h"
#include "cli/peer.h"
#include "cli/secrets.h"
#include "dictionary/encode.h"
#include "host/system.h"
#include "wire/authenticator.h"
#include "wire/builder.h"
#include "wire/hidden.h"

namespace jembatan::cli {

using wire::AttributeType;
using wire::Code;

namespace {

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

Result<Secret> read_password(const Arguments& arguments) {
  if (arguments.has("--password-file")) return secret_in_file(arguments.get("--password-file"));
  if (arguments.has("--password")) return Secret(arguments.get("--password"));
  return typed_secret("password of " + arguments.get("--user"),
                      "give --password-file FILE or --password TEXT");
}

// RFC 2865 §4.1, RFC 2866 §4.1: a request says which device it comes from.
Status add_device(const Octets& attributes, wire::PacketBuilder& packet) {
  const bool named = wire::has_attribute(attributes, AttributeType::nas_identifier) ||
                     wire::has_attribute(attributes, AttributeType::nas_ip_address) ||
                     wire::has_attribute(attributes, AttributeType::nas_ipv6_address);
  return named ? Status{} : packet.add(AttributeType::nas_identifier, std::string_view("jembatan-ask"));
}

wire::Authenticator authenticator_of(wire::PacketBuilder& packet) {
  return wire::PacketView::parse(packet.finish())->authenticator();
}

}  // namespace

std::optional<wire::PacketView> Exchanged::reply() const {
  if (result.ended != Ended::replied) return std::nullopt;
  return *wire::PacketView::parse(result.reply);
}

wire::PacketBuilder new_packet(Code code, std::optional<std::uint8_t> identifier) {
  host::SystemRandom random;
  wire::Authenticator authenticator{};
  std::uint8_t by_chance[1];
  if (!wire::is_digested(code)) random.fill(authenticator);  // a digest is made when it is signed
  if (!identifier) random.fill(by_chance);
  return {code, identifier.value_or(by_chance[0]), authenticator};
}

Status Question::read_given(const Arguments& arguments) {
  for (const std::string& given : arguments.positionals()) {
    // A value may contain '='; a name cannot.
    const std::size_t equals = given.find('=');
    if (equals == std::string::npos) {
      return fail(Errc::malformed,
                  fmt::format("'{}' is not ATTRIBUTE=VALUE, like NAS-Port-Type=Virtual", escaped(given)));
    }
    given_.push_back({given.substr(0, equals), given.substr(equals + 1)});
  }
  const auto encodes = encoded(wire::Authenticator{});
  return encodes ? Status{} : Status{encodes.error()};
}

Result<Octets> Question::encoded(const wire::Authenticator& authenticator) const {
  Octets out;
  std::uint16_t salt = 0x8001;
  const dictionary::Hide hide = [&](dictionary::Hiding hiding, OctetView value) -> Result<Octets> {
    if (hiding == dictionary::Hiding::user_password) {
      return fail(Errc::malformed, "it is the password: give it with --password-file or --password");
    }
    return wire::hide_salted(value, salt++, authenticator, secret_);
  };
  for (const Given& one : given_) {
    const auto attribute = dictionary::encode(*names_, one.name, one.value, hide);
    if (!attribute) return attribute.error();
    append(out, *attribute);
  }
  return out;
}

Result<Question> Question::prepare(const Arguments& arguments, Code code, PortOf port) {
  Question out;
  out.code_ = code;
  if (Status s = read_wish(arguments, out.wish_); !s) return s.error();
  auto peer = find_peer(arguments, port);
  if (!peer) return peer.error();
  out.wish_.to = peer->to;
  out.wish_.from = peer->from;
  out.whom_ = peer->called;
  out.secret_ = wire::SharedSecret(std::move(peer->secret));
  auto names = find_names(arguments);
  if (!names) return names.error();
  out.names_ = std::move(*names);
  out.user_ = arguments.get("--user");
  if (Status s = out.read_given(arguments); !s) return s.error();
  return out;
}

Status Question::read_access(const Arguments& arguments) {
  signed_ = !arguments.has("--unsigned");
  const auto method = method_named(arguments.get("--method", "pap"));
  if (!method) return method.error().at("--method");
  method_ = *method;
  if (const Status read = read_token(arguments); !read) return read;
  if (!arguments.has("--no-password")) {
    auto password = read_password(arguments);
    if (!password) return password.error();
    password_ = std::move(*password);
  }
  what_ = fmt::format("may {} sign in{}?", escaped(user_),
                      password_ ? " (" + arguments.get("--method", "pap") + ")" : ", without a password");
  return {};
}

// A token as programs make it, if nobody says otherwise.
Status Question::read_token(const Arguments& arguments) {
  const bool in_file = arguments.has("--token-file");
  if (!in_file && !arguments.has("--token")) return {};
  const auto text = in_file ? secret_in_file(arguments.get("--token-file"))
                            : Result<Secret>(Secret(arguments.get("--token")));
  if (!text) return text.error();
  auto key = identity::key_in(text_of(text->reveal()));
  if (!key) return key.error().at(in_file ? "--token-file" : "--token");
  token_.emplace().key = std::move(*key);
  return {};
}

Secret Question::filled(const Secret& text) const {
  constexpr std::string_view kPlace = "{code}";
  std::string out(text_of(text.reveal()));
  const std::size_t at = out.find(kPlace);
  if (!token_ || at == std::string::npos) return text;
  const auto now = host::SystemClock().now().wall;
  out.replace(at, kPlace.size(), identity::code_at(*token_, identity::counter_at(*token_, now)));
  return Secret(out);
}

Status Question::read_accounting(const Arguments& arguments) {
  auto status = dictionary::encode(*names_, "Acct-Status-Type", arguments.get("--status"));
  if (!status) return status.error().at("--status");
  status_ = std::move(*status);
  session_ = arguments.get("--session-id");
  what_ = fmt::format("to keep a record: {}{}{}", arguments.get("--status"),
                      session_.empty() ? "" : " of session " + escaped(session_),
                      user_.empty() ? "" : " of " + escaped(user_));
  return {};
}

Result<Question> Question::access(const Arguments& arguments) {
  auto out = prepare(arguments, Code::access_request, PortOf::access);
  if (!out) return out;
  if (const Status read = out->read_access(arguments); !read) return read.error();
  return out;
}

Result<Question> Question::accounting(const Arguments& arguments) {
  auto out = prepare(arguments, Code::accounting_request, PortOf::accounting);
  if (!out) return out;
  if (const Status read = out->read_accounting(arguments); !read) return read.error();
  return out;
}

Result<Question> Question::status(const Arguments& arguments) {
  auto out = prepare(arguments, Code::status_server,
                     arguments.has("--accounting") ? PortOf::accounting : PortOf::access);
  if (out) out->what_ = "is it alive?";
  return out;
}

// Which session, the attributes say that its device told of it (RFC 5176 §3). When it was asked, protects
// against a repeat by somebody else (§6.3).
Result<Question> Question::of_session(const Arguments& arguments, Code code) {
  auto out = prepare(arguments, code, PortOf::authorization);
  if (!out) return out;
  out->signed_ = !arguments.has("--unsigned");
  out->session_ = arguments.get("--session-id");
  if (out->session_.empty() && out->user_.empty() && out->given_.empty())
    return fail(Errc::malformed,
                "which session? --session-id, --user, or attributes that its device knows it by");
  const auto has_time = [](const Given& one) { return lower(one.name) == "event-timestamp"; };
  if (std::none_of(out->given_.begin(), out->given_.end(), has_time)) {
    const auto now = std::chrono::system_clock::to_time_t(host::SystemClock().now().wall);
    out->given_.push_back({"Event-Timestamp", std::to_string(now)});
  }
  out->what_ = fmt::format("to {}{}{}", code == Code::coa_request ? "change" : "end",
                           out->session_.empty() ? " a session" : " session " + escaped(out->session_),
                           out->user_.empty() ? "" : " of " + escaped(out->user_));
  return out;
}

Result<Question> Question::disconnect(const Arguments& arguments) {
  return of_session(arguments, Code::disconnect_request);
}

Result<Question> Question::coa(const Arguments& arguments) {
  return of_session(arguments, Code::coa_request);
}

Result<Question> Question::offline(const Arguments& arguments, rehearsal::Step::Kind kind, Offline with) {
  using Kind = rehearsal::Step::Kind;
  Question out;
  out.code_ = kind == Kind::accounting ? Code::accounting_request
              : kind == Kind::status   ? Code::status_server
                                       : Code::access_request;
  out.secret_ = std::move(with.secret);
  out.names_ = std::move(with.names);
  out.user_ = arguments.get("--user");
  Status read = out.read_given(arguments);
  if (read && kind == Kind::access) read = out.read_access(arguments);
  if (read && kind == Kind::accounting) read = out.read_accounting(arguments);
  if (!read) return read.error();
  return out;
}

Question Question::of_person(std::string user, Secret password) const {
  Question out = *this;
  out.user_ = std::move(user);
  out.password_ = std::move(password);
  return out;
}

Result<Question> Question::by_method(const std::string& method) const {
  const auto named = method_named(method);
  if (!named) return named.error().at("--method");
  Question out = *this;
  out.method_ = *named;
  return out;
}

bool Question::is_genuine(const wire::PacketView& reply, OctetView request) const {
  const wire::Authenticator authenticator = wire::PacketView::parse(request)->authenticator();
  return wire::verify_response(reply, authenticator, secret_) &&
         wire::check_message_authenticator(reply, authenticator, secret_) != wire::Signature::wrong;
}

Question Question::renamed(const Arguments& arguments) const {
  Question out = *this;
  out.user_ = arguments.get("--user");
  out.session_ = arguments.get("--session-id");
  return out;
}

Result<Exchanged> Question::ask() const {
  return send(packet());
}

Result<Exchanged> Question::packet(std::optional<Numbered> number) const {
  wire::PacketBuilder packet = new_packet(code_, number ? std::optional(number->identifier) : std::nullopt);
  const std::string session =
      number && !session_.empty() ? fmt::format("{}-{}", session_, number->session) : session_;
  std::string proof_of_both;
  Status built;
  if (code_ != Code::accounting_request && signed_) built = packet.add_message_authenticator();
  if (built && !status_.empty()) built = packet.add_encoded(status_);
  if (built && !session.empty())
    built = packet.add(AttributeType::acct_session_id, std::string_view(session));
  const bool named = code_ == Code::access_request || !user_.empty();
  if (built && named) built = packet.add(AttributeType::user_name, std::string_view(user_));
  if (built && password_) {
    host::SystemRandom random;
    auto credential = prove({method_, user_, filled(*password_)}, authenticator_of(packet), secret_, random);
    if (!credential) return credential.error();
    proof_of_both = std::move(credential->proof_of_both);
    built = packet.add_encoded(credential->attributes);
  }
  auto out = complete(packet, built);
  if (out) out->proof_of_both = std::move(proof_of_both);
  return out;
}

Result<Exchanged> Question::answer(const wire::PacketView& challenge, const Secret& given) const {
  return send(answer_packet(challenge, given));
}

Result<Exchanged> Question::answer_packet(const wire::PacketView& challenge, const Secret& given) const {
  wire::PacketBuilder packet = new_packet(Code::access_request);
  const auto hidden = wire::hide_password(filled(given).reveal(), authenticator_of(packet), secret_);
  if (!hidden) return hidden.error().at("--answer");
  Status built = packet.add_message_authenticator();
  if (built) built = packet.add(AttributeType::user_name, std::string_view(user_));
  if (built) built = packet.add(AttributeType::user_password, *hidden);
  const auto state = challenge.find(AttributeType::state);
  if (built && state) built = packet.add(AttributeType::state, state->value);
  return complete(packet, built);
}

// Adds what every request has, and signs it. `built`: whether what stands in the packet could be put there.
Result<Exchanged> Question::complete(wire::PacketBuilder& packet, Status built) const {
  const auto attributes = encoded(authenticator_of(packet));
  if (!attributes) return attributes.error();
  if (built && !is_of_session()) built = add_device(*attributes, packet);
  if (built) built = packet.add_encoded(*attributes);
  if (!built) return built.error();
  const OctetSpan octets = packet.finish();
  if (wire::is_digested(code_)) {
    wire::sign_digested_request(octets, secret_);
  } else {
    wire::sign_request(octets, secret_);
  }
  return Exchanged{{octets.begin(), octets.end()}, {}, ""};
}

Result<Exchanged> Question::send(Result<Exchanged> built) const {
  if (!built) return built;
  auto result = exchange(wish_, built->request, secret_);
  if (!result) return result.error();
  built->result = std::move(*result);
  return built;
}

}  // namespace jembatan::cli
