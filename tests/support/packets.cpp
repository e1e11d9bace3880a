#include "support/packets.h"

#include <gtest/gtest.h>

#include "dictionary/describe.h"
#include "dictionary/encode.h"
#include "wire/authenticator.h"
#include "wire/hidden.h"

namespace jembatan::support {

using wire::Code;

RequestBuilder::RequestBuilder(Code code, std::uint8_t identifier) : code_(code), identifier_(identifier) {
  if (code != Code::accounting_request) authenticator(static_cast<std::uint8_t>(identifier + 100));
}

RequestBuilder& RequestBuilder::authenticator(std::uint8_t fill) {
  for (std::size_t i = 0; i < authenticator_.size(); ++i)
    authenticator_[i] = static_cast<std::uint8_t>(fill + i);
  return *this;
}

RequestBuilder& RequestBuilder::password(std::string_view text) {
  password_ = text;
  has_password_ = true;
  return *this;
}

RequestBuilder& RequestBuilder::with(std::string_view name, std::string_view value) {
  const auto encoded = dictionary::encode(dictionary::standard(), name, value);
  if (!encoded) throw std::invalid_argument(encoded.error().text);
  append(attributes_, *encoded);
  return *this;
}

RequestBuilder& RequestBuilder::plus(const Octets& encoded) {
  append(attributes_, encoded);
  return *this;
}
RequestBuilder& RequestBuilder::raw(const Octets& octets) {
  append(raw_, octets);
  return *this;
}

Octets RequestBuilder::build(const wire::SharedSecret& secret, bool sign) const {
  wire::PacketBuilder packet(code_, identifier_, authenticator_);
  if (sign && code_ != Code::accounting_request) (void)packet.add_message_authenticator();
  if (has_password_) {
    const auto hidden = wire::hide_password(view_of(password_), authenticator_, secret);
    (void)packet.add(wire::AttributeType::user_password, OctetView(*hidden));
  }
  (void)packet.add_encoded(attributes_);
  (void)packet.add_encoded(raw_);
  const OctetSpan octets = packet.finish();
  if (!raw_.empty()) return {octets.begin(), octets.end()};
  if (wire::is_digested(code_)) {
    wire::sign_digested_request(octets, secret);
  } else if (sign) {
    wire::sign_request(octets, secret);
  }
  return {octets.begin(), octets.end()};
}

Octets RequestBuilder::signed_with(const wire::SharedSecret& secret) const {
  return build(secret, true);
}
Octets RequestBuilder::not_signed(const wire::SharedSecret& secret) const {
  return build(secret, false);
}

RequestBuilder access_request(std::uint8_t identifier) {
  return {Code::access_request, identifier};
}

RequestBuilder accounting_request(std::string_view status, std::string_view session,
                                  std::uint8_t identifier) {
  RequestBuilder out(Code::accounting_request, identifier);
  return out.with("Acct-Status-Type", status).with("Acct-Session-Id", session);
}

RequestBuilder disconnect_request(std::uint8_t identifier) {
  return {Code::disconnect_request, identifier};
}

RequestBuilder status_server(std::uint8_t identifier) {
  return {Code::status_server, identifier};
}

namespace {

plan::Outside no_sources() {
  const auto none = [](const std::string& name) -> Result<std::string> {
    return fail(Errc::not_found, "no source '" + name + "' in this test");
  };
  return {none, none};
}

}  // namespace

plan::PlanPtr plan_of(std::string_view text) {
  document::Problems problems;
  const std::vector<plan::SourceFile> files{{"plan.toml", std::string(text)}};
  auto out = plan::read(files, no_sources(), problems);
  EXPECT_TRUE(out) << problems.text();
  return out;
}

std::string problems_of(std::string_view text) {
  document::Problems problems;
  const std::vector<plan::SourceFile> files{{"plan.toml", std::string(text)}};
  (void)plan::read(files, no_sources(), problems);
  return problems.text();
}

std::string value_in(OctetView packet, std::string_view name) {
  const auto view = wire::PacketView::parse(packet);
  if (!view) return "(no packet)";
  for (const auto& line : dictionary::describe(dictionary::standard(), *view)) {
    if (line.name == name) return line.value;
  }
  return "(none)";
}

}  // namespace jembatan::support
