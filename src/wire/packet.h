#pragma once
// Reading a packet: a view over the octets received. Nothing is copied and nothing is allocated.
#include <array>
#include <iterator>
#include <optional>

#include "wire/attribute.h"
#include "wire/code.h"

namespace jembatan::wire {

inline constexpr std::size_t kHeader = 20;          ///< RFC 2865 §3
inline constexpr std::size_t kMaxPacket = 4096;     ///< RFC 2865 §3
inline constexpr std::size_t kAuthenticatorAt = 4;  ///< offset in the header

using Authenticator = std::array<std::uint8_t, 16>;

/// Walks over attributes that PacketView::parse has found well-formed.
class AttributeIterator {
 public:
  using value_type = Attribute;
  using difference_type = std::ptrdiff_t;
  using iterator_category = std::input_iterator_tag;

  AttributeIterator() = default;
  AttributeIterator(OctetView packet, std::size_t at) : packet_(packet), at_(at) {}
  Attribute operator*() const {
    const std::size_t length = packet_[at_ + 1];
    return {static_cast<AttributeType>(packet_[at_]), packet_.subspan(at_ + 2, length - 2), at_};
  }
  AttributeIterator& operator++() {
    at_ += packet_[at_ + 1];
    return *this;
  }
  AttributeIterator operator++(int) {
    AttributeIterator before = *this;
    ++*this;
    return before;
  }
  bool operator==(const AttributeIterator& other) const { return at_ == other.at_; }

 private:
  OctetView packet_;
  std::size_t at_ = 0;
};

struct AttributeRange {
  OctetView packet;
  AttributeIterator begin() const { return {packet, kHeader}; }
  AttributeIterator end() const { return {packet, packet.size()}; }
};

/// A well-formed packet. Lives no longer than the octets it was parsed from.
class PacketView {
 public:
  /// Checks the header and that attributes fill the packet exactly (RFC 2865 §3, §5).
  ///   datagram  what was received; octets behind the Length field are padding and ignored
  ///   errors    Errc::too_short, Errc::too_long, Errc::malformed; the text has the offset
  static Result<PacketView> parse(OctetView datagram);

  Code code() const { return static_cast<Code>(octets_[0]); }
  std::uint8_t identifier() const { return octets_[1]; }
  Authenticator authenticator() const;
  OctetView octets() const { return octets_; }  ///< header and attributes, without padding
  OctetView attribute_octets() const { return octets_.subspan(kHeader); }
  AttributeRange attributes() const { return {octets_}; }

  std::optional<Attribute> find(AttributeType type) const;  ///< the first of that type
  std::size_t count(AttributeType type) const;

 private:
  explicit PacketView(OctetView octets) : octets_(octets) {}
  OctetView octets_;
};

/// Adds one attribute to others, which need no header.
///   value  at most 253 octets
void append_attribute(Octets& attributes, AttributeType type, OctetView value);

/// True if an attribute of the type is among these, which need no header.
bool has_attribute(OctetView attributes, AttributeType type);

/// The value as a 32-bit number; nothing if it is not 4 octets long.
std::optional<std::uint32_t> number_in(const std::optional<Attribute>& attribute);
/// The value as text, unchecked; empty if there is none.
std::string_view text_in(const std::optional<Attribute>& attribute);

}  // namespace jembatan::wire
