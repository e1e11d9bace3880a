#include "wire/builder.h"

#include <gtest/gtest.h>

#include "support/fakes.h"

namespace jembatan::wire {
namespace {

TEST(Builder, TooLongAValueIsAnErrorAndChangesNothing) {
  PacketBuilder packet(Code::access_request, 1, {});
  const Octets value(254);
  const Status added = packet.add(AttributeType::user_name, OctetView(value));
  ASSERT_FALSE(added);
  EXPECT_EQ(added.error().text, "attribute 1: value of 254 octets, allowed 0 to 253");
  EXPECT_EQ(packet.finish().size(), kHeader);
}

TEST(Builder, TheLimitOf4096OctetsIsExact) {  // RFC 2865 §3
  PacketBuilder packet(Code::access_request, 1, {});
  const Octets value(253);
  for (int i = 0; i < 15; ++i) ASSERT_TRUE(packet.add(AttributeType::reply_message, OctetView(value)));
  EXPECT_FALSE(packet.add(AttributeType::reply_message, OctetView(value)));
  EXPECT_FALSE(packet.add_encoded(Octets(252)));
  ASSERT_TRUE(packet.add(AttributeType::reply_message, OctetView(value).first(249)));
  EXPECT_EQ(packet.finish().size(), kMaxPacket);
  EXPECT_FALSE(packet.add(AttributeType::reply_message, OctetView()));
  EXPECT_TRUE(PacketView::parse(packet.finish()));
}

TEST(Builder, WhatIsEncodedAlreadyFillsThePacketExactly) {
  const Octets all(kMaxPacket - kHeader);
  PacketBuilder full(Code::access_accept, 1, {});
  EXPECT_TRUE(full.add_encoded(all));
  EXPECT_EQ(full.finish().size(), kMaxPacket);
  EXPECT_FALSE(full.add_encoded(Octets(1)));
  EXPECT_EQ(full.finish().size(), kMaxPacket);
}

TEST(Builder, WhatIsBuiltParsesToTheSameAttributesForRandomLists) {
  support::FixedRandom random(20260101);
  for (int round = 0; round < 500; ++round) {
    PacketBuilder packet(Code::access_accept, static_cast<std::uint8_t>(round), {});
    std::vector<std::pair<std::uint8_t, Octets>> wanted;
    for (std::uint32_t i = random.below(12); i > 0; --i) {
      Octets value(random.below(254));
      random.fill(value);
      const auto type = static_cast<std::uint8_t>(1 + random.below(255));
      if (packet.add(static_cast<AttributeType>(type), OctetView(value))) wanted.emplace_back(type, value);
    }
    const Octets first(packet.finish().begin(), packet.finish().end());
    const auto view = PacketView::parse(first);
    ASSERT_TRUE(view);
    PacketBuilder again(view->code(), view->identifier(), view->authenticator());
    std::vector<std::pair<std::uint8_t, Octets>> seen;
    for (const Attribute a : view->attributes()) {
      seen.emplace_back(static_cast<std::uint8_t>(a.type), Octets(a.value.begin(), a.value.end()));
      ASSERT_TRUE(again.add(a.type, a.value));
    }
    EXPECT_EQ(seen, wanted);
    EXPECT_TRUE(std::equal(first.begin(), first.end(), again.finish().begin(), again.finish().end()));
  }
}

}  // namespace
}  // namespace jembatan::wire
