#include "dictionary/value_text.h"

#include <gtest/gtest.h>

#include <random>

#include "dictionary/describe.h"
#include "dictionary/encode.h"
#include "dictionary/read.h"
#include "document/parse.h"

namespace jembatan::dictionary {
namespace {

struct ValueCase {
  const char* name;
  const char* text;
  const char* attribute;  ///< the whole attribute in hexadecimal
  const char* printed;    ///< nullptr: as `text`
};

class Value : public testing::TestWithParam<ValueCase> {};

TEST_P(Value, IsEncodedAndPrinted) {
  const auto encoded = encode(standard(), GetParam().name, GetParam().text);
  ASSERT_TRUE(encoded) << encoded.error().text;
  EXPECT_EQ(to_hex(*encoded), GetParam().attribute);
  const auto lines = describe(standard(), *encoded);
  ASSERT_EQ(lines.size(), 1U);
  EXPECT_EQ(lines[0].name, GetParam().name);
  EXPECT_EQ(lines[0].value, GetParam().printed == nullptr ? GetParam().text : GetParam().printed);
}

INSTANTIATE_TEST_SUITE_P(
    Types, Value,
    testing::Values(
        ValueCase{"User-Name", "sari", "010673617269", "\"sari\""},
        ValueCase{"Filter-Id", "\"crew\"", "0b0663726577", nullptr},
        ValueCase{"NAS-Port", "3", "050600000003", nullptr},
        ValueCase{"Session-Timeout", "12h", "1b060000a8c0", "43200"},
        ValueCase{"Service-Type", "administrative", "060600000006", "Administrative"},
        ValueCase{"Service-Type", "99", "060600000063", nullptr},
        ValueCase{"NAS-IP-Address", "192.0.2.1", "0406c0000201", nullptr},
        ValueCase{"NAS-IPv6-Address", "2001:db8::1", "5f1220010db8000000000000000000000001", nullptr},
        ValueCase{"Framed-IPv6-Prefix", "2001:db8:1::/48", "610a003020010db80001", nullptr},
        ValueCase{"Framed-Interface-Id", "0:0:0:1", "600a0000000000000001", nullptr},
        ValueCase{"Event-Timestamp", "2026-01-02T03:04:05Z", "3706695735a5", "2026-01-02T03:04:05.000Z"},
        ValueCase{"Class", "0x00ff", "190400ff", nullptr},
        ValueCase{"Class", "abc", "1905616263", "0x616263"}, ValueCase{"State", "", "1802", "\"\""},
        ValueCase{"Tunnel-Type", "VLAN", "40060000000d", nullptr},
        ValueCase{"Tunnel-Type[1]", "VLAN", "40060100000d", nullptr},
        ValueCase{"Tunnel-Private-Group-ID", "30", "51043330", "\"30\""},
        ValueCase{"Tunnel-Private-Group-ID[2]", "30", "5105023330", "\"30\""},
        ValueCase{"Tunnel-Preference[31]", "5", "53061f000005", nullptr}));

INSTANTIATE_TEST_SUITE_P(
    MoreTypes, Value,
    testing::Values(ValueCase{"MIP6-Feature-Vector", "7", "7c0a0000000000000007", nullptr},
                    ValueCase{"PMIP6-Home-IPv4-HoA", "192.0.2.0/24", "9b080018c0000200", nullptr},
                    ValueCase{"241.26.32473.1", "0x0102", "f10a1a00007ed9010102", nullptr},
                    ValueCase{"User-Name", "\"a\\xff\\\\b\"", "010661ff5c62", nullptr},
                    ValueCase{"User-Name", "DECK\\sari", "010b4445434b5c73617269", "\"DECK\\\\sari\""}));

// Octets of the types that have one size, nothing for the others.
std::optional<std::size_t> size_of(DataType type) {
  switch (type) {
    case DataType::integer:
    case DataType::enumeration:
    case DataType::time:
    case DataType::ipv4addr:
      return 4;
    case DataType::ifid:
    case DataType::integer64:
      return 8;
    case DataType::ipv6addr:
      return 16;
    default:
      return std::nullopt;
  }
}

// What is printed is read back to the same octets, for every type and any octets.
TEST(EveryType, RoundTrips) {
  std::mt19937 engine(8044);
  for (const Definition* definition : standard().all()) {
    if (definition->path.size() > 1 || definition->hiding != Hiding::none || definition->tagged) continue;
    const bool container = definition->type == DataType::vsa || definition->type == DataType::extended ||
                           definition->type == DataType::long_extended;
    for (int round = 0; round < 200 && !container; ++round) {
      static constexpr std::size_t kSizes[] = {0, 1, 2, 4, 6, 8, 16, 18, 40};
      Octets value(kSizes[engine() % 9]);
      for (auto& octet : value) octet = static_cast<std::uint8_t>(engine());
      const std::string printed = print_value(*definition, value);
      const auto again = parse_value(*definition, printed);
      const bool free_form = definition->type == DataType::text || definition->type == DataType::string ||
                             definition->type == DataType::concat;
      if (!free_form && value.size() != size_of(definition->type)) continue;
      ASSERT_TRUE(again) << definition->name << " " << printed << " " << again.error().text;
      EXPECT_EQ(*again, value) << definition->name << " " << printed;
    }
  }
}

struct WrongCase {
  const char* name;
  const char* text;
  const char* error;
};

class Wrong : public testing::TestWithParam<WrongCase> {};

TEST_P(Wrong, IsRefusedWithWhatIsAllowed) {
  const auto encoded = encode(standard(), GetParam().name, GetParam().text);
  ASSERT_FALSE(encoded);
  EXPECT_EQ(encoded.error().text, GetParam().error);
}

INSTANTIATE_TEST_SUITE_P(
    Values, Wrong,
    testing::Values(
        WrongCase{"User-Nmae", "x", "attribute 'User-Nmae' is in no dictionary; nearest: 'User-Name'"},
        WrongCase{"Xyzzy", "x", "attribute 'Xyzzy' is in no dictionary"},
        WrongCase{"NAS-Port", "three",
                  "NAS-Port: 'three' is not a number; allowed: 0 to 4294967295, or a time like 12h"},
        WrongCase{
            "Prompt", "Ecko",
            "Prompt: 'Ecko' is no value of Prompt; allowed: No-Echo, Echo, or a number; nearest: 'Echo'"},
        WrongCase{"NAS-IP-Address", "2001:db8::1",
                  "NAS-IP-Address: '2001:db8::1' is an IPv6 address; allowed: IPv4"},
        WrongCase{"Class", "0xf", "Class: odd number of hexadecimal digits; allowed: two an octet"},
        WrongCase{"Tunnel-Type[32]", "VLAN", "Tunnel-Type: tag: '32' is not a number; allowed: 0 to 31"},
        WrongCase{"User-Name[1]", "x", "User-Name: it carries no tag (RFC 2868)"}));

TEST(Print, AValueThatDoesNotFitItsTypeIsShownAsOctets) {
  const Octets three{1, 2, 3};
  EXPECT_EQ(print_value(*standard().named("NAS-Port"), three), "0x010203");
  EXPECT_EQ(print_value(*standard().named("Framed-IPv6-Prefix"), Octets{0, 129, 3}), "0x008103");
  const auto unknown = describe(standard(), Octets{250, 5, 1, 2, 3});
  EXPECT_EQ(unknown[0].name, "attribute 250");
  EXPECT_EQ(unknown[0].value, "0x010203");
}

TEST(Print, HiddenValuesAreNamedNeverShown) {
  EXPECT_EQ(print_value(*standard().named("User-Password"), Octets(16)), "(hidden, 16 octets)");
  EXPECT_EQ(print_value(*standard().named("Tunnel-Password"), Octets(21)), "(hidden, 21 octets)");
}

TEST(Print, BadOctetsInTextAreEscaped) {
  EXPECT_EQ(print_value(*standard().named("User-Name"), Octets{'a', 0xFF, '\n'}), "\"a\\xff\\x0a\"");
}

std::string mistakes_in(std::string_view toml) {
  Catalogue catalogue;
  document::Problems problems;
  const auto file = document::parse("d.toml", toml, problems);
  if (file) read_into(catalogue, *file, problems);
  return problems.text();
}

TEST(Dictionary, ANumberOrNameThatIsTakenIsAnError) {
  const std::string both =
      "attribute = [ { number = 1, name = \"A\", type = \"text\" },\n"
      " { number = 1, name = \"B\", type = \"text\" },\n"
      " { number = 2, name = \"a\", type = \"text\" } ]\nsource = \"X\"";
  const std::string report = mistakes_in(both);
  EXPECT_NE(report.find("d.toml:2:2: error: number 1 of 'B' belongs to 'A' (d.toml:1) already"),
            std::string::npos)
      << report;
  EXPECT_NE(report.find("d.toml:3:2: error: name 'a' belongs to attribute 1 (d.toml:1) already"),
            std::string::npos)
      << report;
}

TEST(Dictionary, WrongTypesAndValuesOfUnknownAttributesAreErrors) {
  const std::string report =
      mistakes_in("attribute = [ { number = 300, name = \"A\", type = \"text\" } ]\n[values.B]\nX = 1");
  EXPECT_NE(report.find("number 300 of 'A' does not fit its field"), std::string::npos) << report;
  EXPECT_NE(report.find("unknown key 'B' in values"), std::string::npos);
}

TEST(Dictionary, TheStandardOneHasTheRegistrysNumbers) {
  const std::pair<const char*, int> known[] = {{"User-Name", 1},
                                               {"Vendor-Specific", 26},
                                               {"Proxy-State", 33},
                                               {"Acct-Status-Type", 40},
                                               {"Event-Timestamp", 55},
                                               {"NAS-Port-Type", 61},
                                               {"Message-Authenticator", 80},
                                               {"Chargeable-User-Identity", 89}};
  for (const auto& [name, number] : known) {
    ASSERT_NE(standard().named(name), nullptr) << name;
    EXPECT_EQ(standard().named(name)->path, Path{static_cast<std::uint32_t>(number)}) << name;
  }
}

}  // namespace
}  // namespace jembatan::dictionary
