#pragma once
// Writing a packet.
#include "wire/packet.h"

namespace jembatan::wire {

/// Puts a packet together in a buffer of its own, in the order of the calls. Values that do not fit are
/// errors and leave the packet as it was: nothing is ever cut off. One packet, one thread.
class PacketBuilder {
 public:
  PacketBuilder(Code code, std::uint8_t identifier, const Authenticator& authenticator);

  /// Adds one attribute.
  ///   errors  Errc::too_long: value over 253 octets, or the packet would exceed 4096
  Status add(AttributeType type, OctetView value);
  Status add(AttributeType type, std::string_view text) { return add(type, view_of(text)); }
  Status add(AttributeType type, std::uint32_t number);
  /// Adds attributes that are already encoded, byte for byte.
  Status add_encoded(OctetView attributes);
  /// Adds Message-Authenticator with zeros for wire::sign_* to fill in.
  Status add_message_authenticator();

  /// The packet so far, its Length field set; to be signed in place.
  OctetSpan finish();

 private:
  std::array<std::uint8_t, kMaxPacket> octets_;
  std::size_t length_ = kHeader;
};

}  // namespace jembatan::wire
