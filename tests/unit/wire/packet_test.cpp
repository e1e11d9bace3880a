#include "wire/packet.h"

#include <gtest/gtest.h>

#include "support/packets.h"

namespace jembatan::wire {
namespace {

using support::access_request;

Octets header_of(std::uint16_t length) {
  Octets out(20);
  out[0] = 1;
  store16(&out[2], length);
  return out;
}

std::string error_of(const Octets& datagram) {
  const auto packet = PacketView::parse(datagram);
  return packet ? "no error" : packet.error().text;
}

TEST(Parse, FewerThanTwentyOctetsAreTooShort) {
  EXPECT_EQ(error_of({}), "packet of 0 octets, must be 20 or more");
  EXPECT_EQ(error_of(Octets(19)), "packet of 19 octets, must be 20 or more");
}

TEST(Parse, LengthFieldOutOfRangeIsRefused) {  // RFC 2865 §3
  EXPECT_EQ(error_of(header_of(19)), "Length field at octet 2: 19, allowed 20 to 4096");
  EXPECT_EQ(error_of(header_of(4097)), "Length field at octet 2: 4097, allowed 20 to 4096");
}

TEST(Parse, LengthBeyondTheDatagramIsRefused) {  // RFC 2865 §3: silently discarded
  EXPECT_EQ(error_of(header_of(21)), "Length field at octet 2: 21, but only 20 octets arrived");
}

TEST(Parse, OctetsBehindTheLengthArePadding) {  // RFC 2865 §3
  Octets octets = header_of(20);
  octets.resize(30, 0xEE);
  const auto packet = PacketView::parse(octets);
  ASSERT_TRUE(packet);
  EXPECT_EQ(packet->octets().size(), 20U);
  EXPECT_TRUE(packet->attribute_octets().empty());
}

TEST(Parse, AttributeOfLengthOneIsRejectedWithItsOffset) {
  const Octets octets = access_request().raw({0x01, 0x01}).signed_with(support::secret("s"));
  EXPECT_EQ(error_of(octets), "attribute 1 at octet 38: length 1, must be 2 or more");
}

TEST(Parse, AttributeBeyondTheEndIsRejectedWithItsOffset) {
  const Octets octets = access_request().raw({0x01, 0x05, 0x61}).signed_with(support::secret("s"));
  EXPECT_EQ(error_of(octets), "attribute 1 at octet 38: length 5, but the packet ends after 3");
}

TEST(Parse, OneOctetLeftIsNoAttribute) {
  const Octets octets = access_request().raw({0x01}).signed_with(support::secret("s"));
  EXPECT_EQ(error_of(octets), "one octet left at octet 38, an attribute has 2 or more");
}

TEST(Parse, EveryTruncationOfAGoodPacketIsRefusedOrPadding) {
  const Octets whole =
      access_request().user("sari@reef.example").password("x").signed_with(support::secret("s"));
  for (std::size_t size = 0; size < whole.size(); ++size) {
    EXPECT_FALSE(PacketView::parse(OctetView(whole).first(size))) << size;
  }
}

TEST(Attributes, AreSeenInOrderWithTheirOffsets) {
  const Octets octets = access_request().user("sari").with("NAS-Port", "3").not_signed(support::secret("s"));
  const auto packet = PacketView::parse(octets);
  std::vector<std::pair<int, std::size_t>> seen;
  for (const Attribute attribute : packet->attributes()) {
    seen.emplace_back(static_cast<int>(attribute.type), attribute.offset);
  }
  EXPECT_EQ(seen, (std::vector<std::pair<int, std::size_t>>{{1, 20}, {5, 26}}));
  EXPECT_EQ(text_in(packet->find(AttributeType::user_name)), "sari");
  EXPECT_EQ(packet->count(AttributeType::user_name), 1U);
  EXPECT_FALSE(packet->find(AttributeType::state));
}

TEST(Attributes, ANumberHasFourOctets) {
  const Octets octets =
      access_request().with("NAS-Port", "3").with("Class", "abc").not_signed(support::secret("s"));
  const auto packet = PacketView::parse(octets);
  EXPECT_EQ(number_in(packet->find(static_cast<AttributeType>(5))), 3U);
  EXPECT_EQ(number_in(packet->find(static_cast<AttributeType>(25))), std::nullopt);
  EXPECT_EQ(number_in(packet->find(AttributeType::state)), std::nullopt);
}

TEST(CodeNames, AreTheStandards) {
  EXPECT_EQ(name_of(Code::access_request), "Access-Request");
  EXPECT_EQ(name_of(static_cast<Code>(99)), "code 99");
  EXPECT_TRUE(is_reply(Code::coa_nak));
  EXPECT_FALSE(is_reply(Code::status_server));
}

}  // namespace
}  // namespace jembatan::wire
