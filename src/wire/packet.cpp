#include "wire/packet.h"

#include <fmt/format.h>

#include <algorithm>

namespace jembatan::wire {

Result<PacketView> PacketView::parse(OctetView datagram) {
  if (datagram.size() < kHeader) {
    return fail(Errc::too_short,
                fmt::format("packet of {} octets, must be {} or more", datagram.size(), kHeader));
  }
  const std::size_t length = load16(&datagram[2]);
  if (length < kHeader || length > kMaxPacket) {
    return fail(length < kHeader ? Errc::too_short : Errc::too_long,
                fmt::format("Length field at octet 2: {}, allowed {} to {}", length, kHeader, kMaxPacket));
  }
  if (length > datagram.size()) {
    return fail(Errc::too_short, fmt::format("Length field at octet 2: {}, but only {} octets arrived",
                                             length, datagram.size()));
  }
  const OctetView octets = datagram.first(length);
  for (std::size_t at = kHeader; at < length;) {
    if (length - at < kAttributeHeader) {
      return fail(Errc::malformed, fmt::format("one octet left at octet {}, an attribute has 2 or more", at));
    }
    const std::size_t size = octets[at + 1];
    if (size < kAttributeHeader) {
      return fail(Errc::malformed, fmt::format("attribute {} at octet {}: length {}, must be 2 or more",
                                               octets[at], at, size));
    }
    if (size > length - at) {
      return fail(Errc::malformed,
                  fmt::format("attribute {} at octet {}: length {}, but the packet ends after {}", octets[at],
                              at, size, length - at));
    }
    at += size;
  }
  return PacketView(octets);
}

Authenticator PacketView::authenticator() const {
  Authenticator out;
  std::copy_n(octets_.begin() + kAuthenticatorAt, out.size(), out.begin());
  return out;
}

std::optional<Attribute> PacketView::find(AttributeType type) const {
  for (const Attribute attribute : attributes()) {
    if (attribute.type == type) return attribute;
  }
  return std::nullopt;
}

void append_attribute(Octets& attributes, AttributeType type, OctetView value) {
  attributes.push_back(static_cast<std::uint8_t>(type));
  attributes.push_back(static_cast<std::uint8_t>(value.size() + kAttributeHeader));
  append(attributes, value);
}

bool has_attribute(OctetView attributes, AttributeType type) {
  for (std::size_t at = 0; at + 1 < attributes.size() && attributes[at + 1] >= kAttributeHeader;
       at += attributes[at + 1]) {
    if (static_cast<AttributeType>(attributes[at]) == type) return true;
  }
  return false;
}

std::size_t PacketView::count(AttributeType type) const {
  std::size_t found = 0;
  for (const Attribute attribute : attributes()) found += attribute.type == type ? 1 : 0;
  return found;
}

std::optional<std::uint32_t> number_in(const std::optional<Attribute>& attribute) {
  if (!attribute || attribute->value.size() != 4) return std::nullopt;
  return load32(attribute->value.data());
}

std::string_view text_in(const std::optional<Attribute>& attribute) {
  return attribute ? text_of(attribute->value) : std::string_view{};
}

}  // namespace jembatan::wire
