#include "wire/authenticator.h"

#include <algorithm>

namespace jembatan::wire {
namespace {

constexpr Authenticator kZeros{};

// Offset of Message-Authenticator's value in a packet that is known to be well-formed, 0 if there is none, or
// none of the right length.
std::size_t signature_at(OctetView packet) {
  for (std::size_t at = kHeader; at < packet.size(); at += packet[at + 1]) {
    if (packet[at] == static_cast<std::uint8_t>(AttributeType::message_authenticator) &&
        packet[at + 1] == kAttributeHeader + kZeros.size())
      return at + kAttributeHeader;
  }
  return 0;
}

void put(OctetSpan packet, std::size_t at, const Authenticator& value) {
  std::copy(value.begin(), value.end(), packet.begin() + static_cast<std::ptrdiff_t>(at));
}

void fill_message_authenticator(OctetSpan packet, const Authenticator& request, const SharedSecret& secret) {
  const std::size_t at = signature_at(packet);
  if (at != 0) put(packet, at, message_authenticator(packet, at, request, secret));
}

}  // namespace

Authenticator packet_digest(OctetView packet, const Authenticator& authenticator,
                            const SharedSecret& secret) {
  md5_ctx md5;
  md5_init(&md5);
  md5_update(&md5, kAuthenticatorAt, packet.data());
  md5_update(&md5, authenticator.size(), authenticator.data());
  md5_update(&md5, packet.size() - kHeader, packet.data() + kHeader);
  md5_update(&md5, secret.reveal().size(), secret.reveal().data());
  Authenticator out;
  md5_digest(&md5, out.size(), out.data());
  return out;
}

Authenticator message_authenticator(OctetView packet, std::size_t value_at,
                                    const Authenticator& authenticator, const SharedSecret& secret) {
  hmac_md5_ctx hmac = secret.hmac_start();
  hmac_md5_update(&hmac, kAuthenticatorAt, packet.data());
  hmac_md5_update(&hmac, authenticator.size(), authenticator.data());
  hmac_md5_update(&hmac, value_at - kHeader, packet.data() + kHeader);
  hmac_md5_update(&hmac, kZeros.size(), kZeros.data());
  const std::size_t behind = value_at + kZeros.size();
  hmac_md5_update(&hmac, packet.size() - behind, packet.data() + behind);
  Authenticator out;
  hmac_md5_digest(&hmac, out.size(), out.data());
  return out;
}

Signature check_message_authenticator(const PacketView& packet, const Authenticator& request,
                                      const SharedSecret& secret) {
  const std::size_t found = packet.count(AttributeType::message_authenticator);
  if (found == 0) return Signature::absent;
  const Attribute attribute = *packet.find(AttributeType::message_authenticator);
  if (found > 1 || attribute.value.size() != kZeros.size()) return Signature::wrong;
  const Authenticator expected =
      message_authenticator(packet.octets(), attribute.offset + kAttributeHeader, request, secret);
  return equal_in_constant_time(expected, attribute.value) ? Signature::valid : Signature::wrong;
}

bool verify_digested_request(const PacketView& packet, const SharedSecret& secret) {
  return equal_in_constant_time(packet_digest(packet.octets(), kZeros, secret), packet.authenticator());
}

bool verify_response(const PacketView& reply, const Authenticator& request, const SharedSecret& secret) {
  return equal_in_constant_time(packet_digest(reply.octets(), request, secret), reply.authenticator());
}

void sign_request(OctetSpan packet, const SharedSecret& secret) {
  Authenticator own;
  std::copy_n(packet.begin() + kAuthenticatorAt, own.size(), own.begin());
  fill_message_authenticator(packet, own, secret);
}

void sign_digested_request(OctetSpan packet, const SharedSecret& secret) {
  fill_message_authenticator(packet, kZeros, secret);
  put(packet, kAuthenticatorAt, packet_digest(packet, kZeros, secret));
}

void sign_response(OctetSpan packet, const Authenticator& request, const SharedSecret& secret) {
  fill_message_authenticator(packet, request, secret);
  put(packet, kAuthenticatorAt, packet_digest(packet, request, secret));
}

}  // namespace jembatan::wire
