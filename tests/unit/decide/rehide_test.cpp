#include "decide/rehide.h"

#include <gtest/gtest.h>

#include "support/packets.h"
#include "wire/hidden.h"

namespace jembatan::decide {
namespace {

using wire::AttributeType;

class RehidingTest : public testing::Test {
 protected:
  // Vendor 311, with these inside: type, value.
  static Octets microsoft(const std::vector<std::pair<std::uint8_t, Octets>>& inside) {
    Octets out{0, 0, 1, 0x37};
    for (const auto& [type, value] : inside) {
      out.push_back(type);
      out.push_back(static_cast<std::uint8_t>(value.size() + 2));
      append(out, value);
    }
    return out;
  }
  // The value of the only attribute, as it arrives at the next hop.
  Octets copied(AttributeType type, const Octets& value) const {
    wire::PacketBuilder came(wire::Code::access_accept, 1, {});
    EXPECT_TRUE(came.add(type, OctetView(value)));
    const auto packet = *wire::PacketView::parse(came.finish());
    wire::PacketBuilder goes(wire::Code::access_accept, 2, {});
    EXPECT_TRUE((Rehiding{dictionary::standard(), from, to}.copy(packet, *packet.find(type), goes)));
    const auto found = wire::PacketView::parse(goes.finish())->find(type);
    return {found->value.begin(), found->value.end()};
  }

  const wire::SharedSecret theirs{Secret("danau")};
  const wire::SharedSecret ours{Secret("laut")};
  const HiddenWith from{theirs, {1, 2, 3}};
  const HiddenWith to{ours, {7, 8, 9}};
};

TEST_F(RehidingTest, VendorsValuesOfBothKindsInOneAttribute) {
  const Octets keys = octets_of("24 octets of session key");  // MS-CHAP-MPPE-Keys (RFC 2548 §2.4.1)
  const Octets key = octets_of("sixteen octets!!");           // MS-MPPE-Send-Key (§2.4.2)
  const Octets policy{0, 0, 0, 1};
  const Octets hidden_keys = *wire::hide_password(keys, from.request, from.secret);
  const Octets hidden_key = *wire::hide_salted(key, 0x8123, from.request, from.secret);
  const Octets came =
      copied(AttributeType::vendor_specific, microsoft({{12, hidden_keys}, {7, policy}, {16, hidden_key}}));
  const std::size_t second = 4 + 2 + hidden_keys.size();
  const std::size_t third = second + 2 + policy.size();
  const OctetView all(came);
  EXPECT_NE(Octets(all.begin() + 6, all.begin() + 6 + 32), hidden_keys);
  auto opened = *wire::reveal_password(all.subspan(6, hidden_keys.size()), to.request, to.secret);
  opened.resize(keys.size());
  EXPECT_EQ(opened, keys);
  EXPECT_EQ(Octets(all.begin() + static_cast<std::ptrdiff_t>(second) + 2,
                   all.begin() + static_cast<std::ptrdiff_t>(third)),
            policy);
  const OctetView salted = all.subspan(third + 2);
  EXPECT_EQ(load16(salted.data()), 0x8123);  // the salt stays
  EXPECT_EQ(*wire::reveal_salted(salted, to.request, to.secret), key);
}

TEST_F(RehidingTest, WhatCannotBeOpenedIsCopiedAsItIs) {
  const Octets broken{0x81, 0x23, 1, 2, 3};  // not in blocks of 16
  const Octets value = microsoft({{16, broken}});
  EXPECT_EQ(copied(AttributeType::vendor_specific, value), value);
  const Octets cut{0, 0, 1, 0x37, 16, 200, 1};  // longer than it is
  EXPECT_EQ(copied(AttributeType::vendor_specific, cut), cut);
  const Octets other{0, 0, 0x7E, 0xD9, 16, 3, 1};  // a vendor that nobody knows
  EXPECT_EQ(copied(AttributeType::vendor_specific, other), other);
}

TEST_F(RehidingTest, ATagStaysInFrontOfASaltedValue) {
  Octets value{1};
  append(value, *wire::hide_salted(octets_of("terowong"), 0x8001, from.request, from.secret));
  const Octets came = copied(static_cast<AttributeType>(69), value);
  EXPECT_EQ(came[0], 1);
  EXPECT_EQ(text_of(*wire::reveal_salted(OctetView(came).subspan(1), to.request, to.secret)), "terowong");
}

TEST_F(RehidingTest, APasswordThatIsNoneIsAnError) {
  wire::PacketBuilder theirs_packet(wire::Code::access_request, 1, {});
  ASSERT_TRUE(theirs_packet.add(AttributeType::user_password, std::string_view("short")));
  const auto packet = *wire::PacketView::parse(theirs_packet.finish());
  wire::PacketBuilder out(wire::Code::access_request, 2, {});
  const Rehiding rehiding{dictionary::standard(), from, to};
  EXPECT_EQ(rehiding.copy(packet, *packet.find(AttributeType::user_password), out).error().code,
            Errc::malformed);
}

}  // namespace
}  // namespace jembatan::decide
