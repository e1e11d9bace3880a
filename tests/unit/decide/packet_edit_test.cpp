#include "decide/packet_edit.h"

#include <gtest/gtest.h>

#include "support/packets.h"

namespace jembatan::decide {
namespace {

using dictionary::standard;
using support::access_request;
using support::secret;
using support::value_in;

const dictionary::Definition& named(const char* name) {
  return *standard().named(name);
}

class PacketEditTest : public testing::Test {
 protected:
  Octets octets = access_request().user("sari@reef.example").with("NAS-Port", "7").not_signed(secret("laut"));
  wire::PacketView packet() const { return *wire::PacketView::parse(octets); }
};

TEST_F(PacketEditTest, WhatIsNotTouchedStaysByteForByte) {
  octets = access_request().user("sari").with("NAS-Port", "7").not_signed(secret("laut"));
  PacketEdit edit(packet(), standard());
  EXPECT_EQ(edit.remove(named("Class")), PacketEdit::npos);
  EXPECT_EQ(to_hex(edit.take()), to_hex(packet().octets()));
}

TEST_F(PacketEditTest, RemovesAllOfAKindAndTellsWhereTheFirstStood) {
  octets = access_request()
               .with("Filter-Id", "crew")
               .with("NAS-Port", "7")
               .with("Filter-Id", "deck")
               .not_signed(secret("laut"));
  PacketEdit edit(packet(), standard());
  EXPECT_EQ(edit.values(named("Filter-Id")).size(), 2U);
  EXPECT_EQ(edit.remove(named("Filter-Id")), wire::kHeader);
  EXPECT_EQ(to_hex(edit.view().attribute_octets()), "050600000007");
}

TEST_F(PacketEditTest, PutsTheNewOneInTheOldOnesPlace) {
  octets =
      access_request().user("sari").with("NAS-Port", "7").with("Class", "0x01").not_signed(secret("laut"));
  PacketEdit edit(packet(), standard());
  const std::size_t at = edit.remove(named("NAS-Port"));
  ASSERT_TRUE(edit.insert(at, *from_hex("050600000009")));
  EXPECT_EQ(to_hex(edit.view().attribute_octets()),
            "010673617269"
            "050600000009"
            "190301");
}

TEST_F(PacketEditTest, TakesOneOutOfAVendorsAttributesAndLeavesTheOthers) {  // RFC 2865 §5.26
  octets = access_request().raw(*from_hex("1a120000013707060000000408060000000e")).not_signed(secret("laut"));
  PacketEdit edit(packet(), standard());
  EXPECT_EQ(edit.remove(named("MS-MPPE-Encryption-Policy")), wire::kHeader);
  EXPECT_EQ(to_hex(edit.view().attribute_octets()), "1a0c0000013708060000000e");
  EXPECT_EQ(edit.remove(named("MS-MPPE-Encryption-Types")), wire::kHeader);
  EXPECT_EQ(to_hex(edit.view().attribute_octets()), "");
}

TEST_F(PacketEditTest, LeavesVendorsOctetsThatBreakTheFormat) {
  octets = access_request().raw(*from_hex("1a0e00000137070600000004ff01")).not_signed(secret("laut"));
  PacketEdit edit(packet(), standard());
  (void)edit.remove(named("MS-MPPE-Encryption-Policy"));
  EXPECT_EQ(to_hex(edit.view().attribute_octets()), "1a0800000137ff01");
}

TEST_F(PacketEditTest, APacketThatWouldGrowTooLongStaysAsItWas) {
  octets = access_request().user("sari").not_signed(secret("laut"));
  PacketEdit edit(packet(), standard());
  const Octets many(4080, 0);
  const Status grown = edit.insert(PacketEdit::npos, many);
  ASSERT_FALSE(grown);
  EXPECT_EQ(grown.error().text, "the packet would exceed 4096 octets");
  EXPECT_EQ(edit.view().octets().size(), octets.size());
}

TEST_F(PacketEditTest, GivesAnotherUserName) {
  const auto renamed = with_user_name(packet(), "sari", standard());
  ASSERT_TRUE(renamed);
  EXPECT_EQ(value_in(*renamed, "User-Name"), "\"sari\"");
  EXPECT_EQ(value_in(*renamed, "NAS-Port"), "7");
  EXPECT_FALSE(with_user_name(packet(), "", standard()));
  EXPECT_FALSE(with_user_name(packet(), std::string(300, 'x'), standard()));
}

}  // namespace
}  // namespace jembatan::decide
