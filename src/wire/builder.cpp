#include "wire/builder.h"

#include <fmt/format.h>

#include <algorithm>
#include <cstring>

namespace jembatan::wire {

PacketBuilder::PacketBuilder(Code code, std::uint8_t identifier, const Authenticator& authenticator) {
  octets_[0] = static_cast<std::uint8_t>(code);
  octets_[1] = identifier;
  std::copy(authenticator.begin(), authenticator.end(), octets_.begin() + kAuthenticatorAt);
}

Status PacketBuilder::add(AttributeType type, OctetView value) {
  if (value.size() > kMaxValue) {
    return fail(Errc::too_long, fmt::format("attribute {}: value of {} octets, allowed 0 to {}",
                                            static_cast<int>(type), value.size(), kMaxValue));
  }
  if (length_ + kAttributeHeader + value.size() > kMaxPacket) {
    return fail(Errc::too_long, fmt::format("attribute {}: the packet would exceed {} octets",
                                            static_cast<int>(type), kMaxPacket));
  }
  octets_[length_] = static_cast<std::uint8_t>(type);
  octets_[length_ + 1] = static_cast<std::uint8_t>(kAttributeHeader + value.size());
  if (!value.empty()) std::memcpy(&octets_[length_ + kAttributeHeader], value.data(), value.size());
  length_ += kAttributeHeader + value.size();
  return {};
}

Status PacketBuilder::add(AttributeType type, std::uint32_t number) {
  std::uint8_t octets[4];
  store32(octets, number);
  return add(type, OctetView(octets));
}

Status PacketBuilder::add_encoded(OctetView attributes) {
  if (length_ + attributes.size() > kMaxPacket) {
    return fail(Errc::too_long, fmt::format("the packet would exceed {} octets", kMaxPacket));
  }
  if (!attributes.empty()) std::memcpy(&octets_[length_], attributes.data(), attributes.size());
  length_ += attributes.size();
  return {};
}

Status PacketBuilder::add_message_authenticator() {
  static constexpr Authenticator kZeros{};
  return add(AttributeType::message_authenticator, OctetView(kZeros));
}

OctetSpan PacketBuilder::finish() {
  store16(&octets_[2], static_cast<std::uint16_t>(length_));
  return OctetSpan(octets_).first(length_);
}

}  // namespace jembatan::wire
