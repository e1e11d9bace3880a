#include "base/ip.h"

#include <gtest/gtest.h>

namespace jembatan {
namespace {

struct AddressCase {
  const char* text;
  const char* printed;
};

class GoodAddress : public testing::TestWithParam<AddressCase> {};

TEST_P(GoodAddress, IsReadAndPrintedInItsShortestForm) {
  const auto address = IpAddress::parse(GetParam().text);
  ASSERT_TRUE(address) << address.error().text;
  EXPECT_EQ(address->text(), GetParam().printed);
}

INSTANTIATE_TEST_SUITE_P(
    Rfc5952, GoodAddress,
    testing::Values(AddressCase{"192.0.2.1", "192.0.2.1"}, AddressCase{"0.0.0.0", "0.0.0.0"},
                    AddressCase{"255.255.255.255", "255.255.255.255"}, AddressCase{"::", "::"},
                    AddressCase{"::1", "::1"}, AddressCase{"2001:DB8::1", "2001:db8::1"},
                    AddressCase{"2001:db8:0:0:1:0:0:1", "2001:db8::1:0:0:1"},
                    AddressCase{"2001:db8:0:1:1:1:1:1", "2001:db8:0:1:1:1:1:1"},
                    AddressCase{"2001:db8::192.0.2.33", "2001:db8::c000:221"},
                    AddressCase{"1:2:3:4:5:6:7:8", "1:2:3:4:5:6:7:8"}, AddressCase{"fe80::", "fe80::"}));

class BadAddress : public testing::TestWithParam<const char*> {};

TEST_P(BadAddress, IsRefused) {
  EXPECT_FALSE(IpAddress::parse(GetParam())) << GetParam();
}

INSTANTIATE_TEST_SUITE_P(All, BadAddress,
                         testing::Values("", "192.0.2", "192.0.2.256", "192.0.2.1.1", "192.0.2.", "a.b.c.d",
                                         "1.2.3.-4", "1:2:3:4:5:6:7", "1:2:3:4:5:6:7:8:9", "1::2::3",
                                         "12345::", "::g", ":1", "1:", "2001:db8::192.0.2.300"));

TEST(Prefix, AnAddressAloneIsItsLongestPrefix) {
  EXPECT_EQ(Prefix::parse("192.0.2.7")->length, 32);
  EXPECT_EQ(Prefix::parse("2001:db8::7")->length, 128);
  EXPECT_EQ(Prefix::parse("192.0.2.7")->text(), "192.0.2.7");
}

TEST(Prefix, BitsBehindTheLengthAreAnErrorThatNamesThePrefix) {
  const auto prefix = Prefix::parse("192.0.2.33/28");
  ASSERT_FALSE(prefix);
  EXPECT_EQ(prefix.error().text,
            "'192.0.2.33/28' has bits set behind its prefix length; the prefix is 192.0.2.32/28");
}

TEST(Prefix, LengthOutOfRangeIsRefused) {
  EXPECT_EQ(Prefix::parse("192.0.2.0/33").error().text,
            "'192.0.2.0/33' has a prefix length of '33'; allowed: 0 to 32");
  EXPECT_FALSE(Prefix::parse("192.0.2.0/"));
  EXPECT_FALSE(Prefix::parse("2001:db8::/129"));
}

TEST(Prefix, ContainsTheAddressesThatShareItsBits) {
  const Prefix prefix = *Prefix::parse("192.0.2.32/28");
  EXPECT_TRUE(prefix.contains(*IpAddress::parse("192.0.2.32")));
  EXPECT_TRUE(prefix.contains(*IpAddress::parse("192.0.2.47")));
  EXPECT_FALSE(prefix.contains(*IpAddress::parse("192.0.2.48")));
  EXPECT_FALSE(prefix.contains(*IpAddress::parse("::1")));
  EXPECT_TRUE(Prefix::parse("0.0.0.0/0")->contains(*IpAddress::parse("203.0.113.9")));
}

TEST(Endpoint, IsReadWithAndWithoutPort) {
  EXPECT_EQ(Endpoint::parse("192.0.2.1", 1812)->text(), "192.0.2.1:1812");
  EXPECT_EQ(Endpoint::parse("192.0.2.1:1645", 1812)->text(), "192.0.2.1:1645");
  EXPECT_EQ(Endpoint::parse("[2001:db8::1]:99", 1812)->text(), "[2001:db8::1]:99");
  EXPECT_EQ(Endpoint::parse("2001:db8::1", 1812)->text(), "[2001:db8::1]:1812");
  EXPECT_FALSE(Endpoint::parse("192.0.2.1:70000", 1812));
  EXPECT_FALSE(Endpoint::parse("[2001:db8::1", 1812));
  EXPECT_FALSE(Endpoint::parse("[2001:db8::1]x", 1812));
}

TEST(IpAddress, KnowsLoopback) {
  EXPECT_TRUE(IpAddress::parse("127.9.9.9")->loopback());
  EXPECT_TRUE(IpAddress::parse("::1")->loopback());
  EXPECT_FALSE(IpAddress::parse("192.0.2.1")->loopback());
  EXPECT_FALSE(IpAddress::parse("::")->loopback());
}

}  // namespace
}  // namespace jembatan
