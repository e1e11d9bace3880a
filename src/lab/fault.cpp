#include "lab/fault.h"

#include <fmt/format.h>

#include <array>

#include "base/text.h"
#include "wire/authenticator.h"
#include "wire/builder.h"

namespace jembatan::lab {
namespace {

using Kind = Fault::Kind;
using wire::AttributeType;
using wire::Code;

constexpr std::array<std::string_view, 8> kNames{"none",      "silent",  "delay",        "drop",
                                                 "duplicate", "reorder", "wrong-secret", "reject-all"};
constexpr std::string_view kAllowed =
    "none, silent, delay TIME, drop PERCENT%, duplicate, reorder, wrong-secret, reject-all";
constexpr unsigned kOvertaking = 40;  // milliseconds, at the most

Error not_a_fault(std::string_view text) {
  return fail(Errc::malformed, fmt::format("'{}' is no fault; allowed: {}", escaped(text), kAllowed));
}

// What a secret signs or hides no longer fits: which is all that the other side can see of another secret.
void spoil(Octets& datagram) {
  const auto packet = wire::PacketView::parse(datagram);
  if (!packet) return;
  const bool signs_header = packet->code() != Code::access_request && packet->code() != Code::status_server;
  std::size_t at = wire::kHeader;
  for (const wire::Attribute attribute : packet->attributes()) {
    const std::size_t value = at + wire::kAttributeHeader;
    at = value + attribute.value.size();
    const bool signs = attribute.type == AttributeType::message_authenticator;
    const bool hides = attribute.type == AttributeType::user_password;
    if (!signs && !hides) continue;
    for (std::size_t i = value; i < at; ++i) datagram[i] ^= 0xa5U;
  }
  if (!signs_header) return;
  for (std::size_t i = 4; i < wire::kHeader; ++i) datagram[i] ^= 0xa5U;
}

// An Access-Reject to an Access-Request.
std::optional<Octets> refusal_of(OctetView datagram, const wire::SharedSecret* secret) {
  const auto request = wire::PacketView::parse(datagram);
  if (!request || request->code() != Code::access_request || secret == nullptr) return std::nullopt;
  wire::PacketBuilder reply(Code::access_reject, request->identifier(), request->authenticator());
  (void)reply.add_message_authenticator();
  for (const wire::Attribute attribute : request->attributes())
    if (attribute.type == AttributeType::proxy_state) (void)reply.add(attribute.type, attribute.value);
  const OctetSpan octets = reply.finish();
  wire::sign_response(octets, request->authenticator(), *secret);
  return Octets(octets.begin(), octets.end());
}

}  // namespace

Result<Fault> parse_fault(std::string_view text) {
  const auto words = split(trim(text), ' ');
  Fault out;
  std::size_t kind = 0;
  while (kind < kNames.size() && kNames[kind] != words.front()) ++kind;
  if (kind == kNames.size()) return not_a_fault(text);
  out.kind = static_cast<Kind>(kind);
  const bool takes_one = out.kind == Kind::delay || out.kind == Kind::drop;
  if (words.size() != (takes_one ? 2U : 1U)) return not_a_fault(text);
  if (out.kind == Kind::delay) {
    const auto time = parse_duration(words[1]);
    if (!time || *time > std::chrono::minutes(5)) return not_a_fault(text);
    out.time = *time;
  }
  if (out.kind == Kind::drop) {
    const std::string_view number = std::string_view(words[1]).substr(0, words[1].size() - 1);
    if (!words[1].ends_with('%') || number.empty() || number.size() > 3 ||
        number.find_first_not_of("0123456789") != std::string_view::npos ||
        std::stoul(std::string(number)) > 100)
      return not_a_fault(text);
    out.percent = static_cast<unsigned>(std::stoul(std::string(number)));
  }
  return out;
}

std::string text_of(const Fault& fault) {
  std::string out(kNames[static_cast<std::size_t>(fault.kind)]);
  if (fault.kind == Kind::delay) out += " " + jembatan::text_of(fault.time);
  if (fault.kind == Kind::drop) out += fmt::format(" {}%", fault.percent);
  return out;
}

std::vector<Passed> pass(const Fault& fault, Direction direction, OctetView datagram,
                         const wire::SharedSecret* secret, Random& random) {
  Passed whole{Duration{0}, Octets(datagram.begin(), datagram.end())};
  switch (fault.kind) {
    case Kind::none:
      break;
    case Kind::silent:
      return {};
    case Kind::delay:
      whole.after = fault.time;
      break;
    case Kind::drop:
      if (random.below(100) < fault.percent) return {};
      break;
    case Kind::duplicate:
      return {whole, whole};
    case Kind::reorder:
      if (random.below(2) == 0) whole.after = Duration(1 + random.below(kOvertaking));
      break;
    case Kind::wrong_secret:
      spoil(whole.datagram);
      break;
    case Kind::reject_all:
      if (direction == Direction::to_asker) break;
      if (auto refusal = refusal_of(datagram, secret)) return {{Duration{0}, std::move(*refusal), true}};
      break;
  }
  return {std::move(whole)};
}

}  // namespace jembatan::lab
