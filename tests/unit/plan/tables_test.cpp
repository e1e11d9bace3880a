#include <gtest/gtest.h>

#include "plan/client_table.h"
#include "plan/realm_table.h"
#include "support/fakes.h"

namespace jembatan::plan {
namespace {

std::size_t found(const ClientTable& table, const char* address) {
  return table.find(*IpAddress::parse(address));
}

TEST(ClientTable, TheLongestPrefixWins) {
  ClientTable table;
  EXPECT_EQ(table.insert(*Prefix::parse("192.0.2.0/24"), 1), ClientTable::kNone);
  EXPECT_EQ(table.insert(*Prefix::parse("192.0.2.32/28"), 2), ClientTable::kNone);
  EXPECT_EQ(table.insert(*Prefix::parse("192.0.2.33"), 3), ClientTable::kNone);
  EXPECT_EQ(found(table, "192.0.2.1"), 1U);
  EXPECT_EQ(found(table, "192.0.2.34"), 2U);
  EXPECT_EQ(found(table, "192.0.2.33"), 3U);
  EXPECT_EQ(found(table, "192.0.3.1"), ClientTable::kNone);
}

TEST(ClientTable, AddressFamiliesAreApart) {
  ClientTable table;
  table.insert(*Prefix::parse("0.0.0.0/0"), 4);
  table.insert(*Prefix::parse("2001:db8::/32"), 6);
  EXPECT_EQ(found(table, "203.0.113.1"), 4U);
  EXPECT_EQ(found(table, "2001:db8::1"), 6U);
  EXPECT_EQ(found(table, "::1"), ClientTable::kNone);
}

TEST(ClientTable, FindsThePrefixAroundAPrefix) {
  ClientTable table;
  table.insert(*Prefix::parse("192.0.2.0/24"), 1);
  table.insert(*Prefix::parse("192.0.2.32/28"), 2);
  EXPECT_EQ(table.around(*Prefix::parse("192.0.2.33")), 2U);
  EXPECT_EQ(table.around(*Prefix::parse("192.0.2.32/28")), 1U);
  EXPECT_EQ(table.around(*Prefix::parse("192.0.2.0/24")), ClientTable::kNone);
}

TEST(ClientTable, TheSamePrefixAgainKeepsTheFirst) {
  ClientTable table;
  table.insert(*Prefix::parse("192.0.2.0/24"), 1);
  EXPECT_EQ(table.insert(*Prefix::parse("192.0.2.0/24"), 2), 1U);
  EXPECT_EQ(found(table, "192.0.2.9"), 1U);
}

TEST(ClientTable, AgreesWithALinearSearchOverRandomPrefixes) {
  support::FixedRandom random(4711);
  ClientTable table;
  std::vector<Prefix> prefixes;
  while (prefixes.size() < 2000) {
    const std::uint8_t octets[4]{10, static_cast<std::uint8_t>(random.below(4)),
                                 static_cast<std::uint8_t>(random.below(256)),
                                 static_cast<std::uint8_t>(random.below(256))};
    Prefix prefix{IpAddress::from_v4(octets), static_cast<std::uint8_t>(8 + random.below(25))};
    for (int bit = prefix.length; bit < 32; ++bit) {
      prefix.address.octets[static_cast<std::size_t>(bit / 8)] &=
          static_cast<std::uint8_t>(~(0x80 >> (bit % 8)));
    }
    const bool known = std::find(prefixes.begin(), prefixes.end(), prefix) != prefixes.end();
    EXPECT_EQ(table.insert(prefix, prefixes.size()) != ClientTable::kNone, known);
    if (!known) prefixes.push_back(prefix);
  }
  for (int i = 0; i < 5000; ++i) {
    const std::uint8_t octets[4]{10, static_cast<std::uint8_t>(random.below(5)),
                                 static_cast<std::uint8_t>(random.below(256)),
                                 static_cast<std::uint8_t>(random.below(256))};
    const IpAddress address = IpAddress::from_v4(octets);
    std::size_t best = ClientTable::kNone;
    for (std::size_t at = 0; at < prefixes.size(); ++at) {
      if (!prefixes[at].contains(address)) continue;
      if (best == ClientTable::kNone || prefixes[at].length > prefixes[best].length) best = at;
    }
    ASSERT_EQ(table.find(address), best) << address.text();
  }
}

TEST(RealmTable, ExactBeforeTheLongestPattern) {
  RealmTable table;
  table.insert("*.islands.example", 1);
  table.insert("*.north.islands.example", 2);
  table.insert("pulau.north.islands.example", 3);
  EXPECT_EQ(table.find("pulau.north.islands.example"), 3U);
  EXPECT_EQ(table.find("other.north.islands.example"), 2U);
  EXPECT_EQ(table.find("a.b.islands.example"), 1U);
  EXPECT_EQ(table.find("islands.example"), RealmTable::kNone);
  EXPECT_EQ(table.find("xislands.example"), RealmTable::kNone);
}

TEST(RealmTable, LetterCaseDoesNotMatter) {
  RealmTable table;
  table.insert("Reef.Example", 1);
  EXPECT_EQ(table.find("reef.EXAMPLE"), 1U);
  EXPECT_EQ(table.insert("REEF.example", 2), 1U);
}

TEST(RealmTable, GeneralLabelsNeedNoOtherEntry) {
  RealmTable table;
  table.insert("wlan.mncNNN.mccNNN.3gppnetwork.org", 1);
  EXPECT_EQ(table.find("wlan.mnc001.mcc510.3gppnetwork.org"), 1U);
}

TEST(RealmPattern, HasItsStarInFrontAlone) {
  for (const char* good : {"reef.example", "*.islands.example", "reef"})
    EXPECT_TRUE(is_realm_pattern(good)) << good;
  for (const char* bad : {"", "*", "*.", "a.*.example", "a@b", "a b", "**.example"})
    EXPECT_FALSE(is_realm_pattern(bad)) << bad;
}

TEST(RealmTable, LabelsOfMobileNetworksStandForAnyDigits) {  // 3GPP TS 23.003 §19.2
  RealmTable table;
  table.insert("wlan.mncNNN.mccNNN.3gppnetwork.org", 1);
  table.insert("wlan.mnc015.mcc510.3gppnetwork.org", 2);
  table.insert("*.mncNNN.mcc520.3gppnetwork.org", 3);
  EXPECT_EQ(table.find("wlan.mnc001.mcc510.3gppnetwork.org"), 1U);
  EXPECT_EQ(table.find("WLAN.MNC015.mcc510.3gppnetwork.org"), 2U);
  EXPECT_EQ(table.find("epc.mnc007.mcc520.3gppnetwork.org"), RealmTable::kNone);  // general on both or none
  EXPECT_EQ(table.find("wlan.mnc01.mcc510.3gppnetwork.org"), RealmTable::kNone);
  EXPECT_EQ(table.find("wlan.mncabc.mcc510.3gppnetwork.org"), RealmTable::kNone);
  EXPECT_EQ(table.find("wlan.mnc001.mcc510.example.org"), RealmTable::kNone);
}

}  // namespace
}  // namespace jembatan::plan
