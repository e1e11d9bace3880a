#include "dictionary/describe.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "dictionary/advice.h"
#include "dictionary/encode.h"
#include "dictionary/read.h"
#include "document/parse.h"
#include "support/fakes.h"
#include "support/packets.h"
#include "wire/hidden.h"

namespace jembatan::dictionary {
namespace {

using support::secret;
using testing::HasSubstr;

constexpr const char* kStrait = R"(
source = "Strait"
vendor = { name = "Strait", number = 32473 }
attribute = [
  { number = 1, name = "Strait-Ferry", type = "text" },
  { number = 4, name = "Strait-Berth", type = "tlv" },
  { number = "4.1", name = "Strait-Berth-Number", type = "integer" },
  { number = "4.2", name = "Strait-Berth-Lamp", type = "tlv" },
  { number = "4.2.1", name = "Strait-Lamp-Colour", type = "text" },
  { number = 5, name = "Strait-Door-Code", type = "string", hidden = "salted" },
  { number = "241.26.32473.7", name = "Strait-Extended", type = "integer" },
  { number = "246.26.32473.8", name = "Strait-Long", type = "text" },
]
)";

Catalogue with(std::string_view toml) {
  Catalogue out(standard());
  document::Problems problems;
  const auto file = document::parse("strait.toml", toml, problems);
  if (file) read_into(out, *file, problems);
  EXPECT_EQ(problems.errors(), 0U) << problems.text();
  return out;
}

const Catalogue& strait() {
  static const Catalogue catalogue = with(kStrait);
  return catalogue;
}

std::string hex_of(const char* name, const char* value) {
  const auto encoded = encode(strait(), name, value);
  return encoded ? to_hex(*encoded) : encoded.error().text;
}

// "name=value" for each line, two spaces a level, "!" before what is wrong.
std::string text_of_lines(const Catalogue& catalogue, const std::string& hex) {
  std::string out;
  for (const Described& line : describe(catalogue, *from_hex(hex))) {
    out += std::string(2 * static_cast<std::size_t>(line.depth), ' ') + line.name + "=" + line.value;
    out += (line.problem.empty() ? "" : " ! " + line.problem) + "\n";
  }
  return out;
}

TEST(Encode, VendorAttributesStandInsideVendorSpecific) {  // RFC 2865 §5.26
  EXPECT_EQ(hex_of("Strait-Ferry", "kerapu"),
            "1a0e00007ed90108"
            "6b6572617075");
  EXPECT_EQ(hex_of("26.32473.200", "0x0102"), "1a0a00007ed9c8040102");
  EXPECT_EQ(hex_of("1", "\"a\""), "010361");
  EXPECT_EQ(hex_of("255", "0x0102"), "ff040102");
  EXPECT_EQ(hex_of("26.99.1", "ab"),
            "1a0a00000063010461"
            "62");
}

TEST(Encode, ExtendedTypes) {  // RFC 6929 §2.1, §2.2, §2.4, examples of §10
  EXPECT_EQ(hex_of("241.4", "bob"), "f10604626f62");
  EXPECT_EQ(hex_of("245.4", "bob"), "f5070400626f62");
  EXPECT_EQ(hex_of("Frag-Status", "More-Data-Pending"), "f1070100000002");
  EXPECT_EQ(hex_of("Strait-Extended", "9"), "f10c1a00007ed90700000009");
}

TEST(Encode, LongValuesAreCutIntoPieces) {
  const std::string value(300, 'a');
  const auto extended = encode(strait(), "245.4", value);
  ASSERT_EQ(extended->size(), 300U + 2 * 4);
  EXPECT_EQ((*extended)[1], 255);
  EXPECT_EQ((*extended)[3], 0x80);  // More
  EXPECT_EQ((*extended)[258], 0);
  const auto concat = encode(strait(), "EAP-Message", value);
  ASSERT_EQ(concat->size(), 300U + 2 * 2);
  for (const char* name : {"245.4", "EAP-Message", "Strait-Long"}) {
    const auto octets = encode(strait(), name, value);
    const auto lines = describe(strait(), *octets);
    ASSERT_EQ(lines.size(), 1U) << name;
    EXPECT_EQ(lines[0].pieces.size(), 2U);
    EXPECT_THAT(lines[0].value, testing::AnyOf('"' + value + '"', "0x" + to_hex(view_of(value))));
  }
}

TEST(Encode, WhatDoesNotFitIsRefused) {
  const std::string large(250, 'a');
  EXPECT_THAT(hex_of("Strait-Ferry", large.c_str()), HasSubstr("value of 250 octets, allowed 0 to 247"));
  EXPECT_THAT(hex_of("241.4", std::string(253, 'a').c_str()),
              HasSubstr("value of 253 octets, allowed 0 to 252"));
  EXPECT_THAT(hex_of("245.4", std::string(5000, 'a').c_str()), HasSubstr("allowed 0 to 4076"));
  EXPECT_THAT(hex_of("Strait-Door-Code", "x"), HasSubstr("its value is hidden under the shared secret"));
}

TEST(Encode, TlvsAreWrittenNested) {
  EXPECT_EQ(
      hex_of("Strait-Berth", "{ Strait-Berth-Number=3, Strait-Berth-Lamp={ Strait-Lamp-Colour=\"r,d\" } }"),
      "1a15"
      "00007ed9"
      "040f"
      "010600000003"
      "0207"
      "0105722c64");
  EXPECT_EQ(hex_of("Strait-Berth-Number", "3"), "1a0e00007ed90408010600000003");
  EXPECT_THAT(hex_of("Strait-Berth", "3"), HasSubstr("'3' is not { Name=value, Name=value } or 0x…"));
  EXPECT_THAT(hex_of("Strait-Berth", "{ User-Name=x }"),
              HasSubstr("User-Name does not stand inside Strait-Berth"));
  EXPECT_THAT(hex_of("Strait-Berth", "{ Strait-Berth-Number=3"), HasSubstr("is not { Name=value"));
}

TEST(Describe, SeveralVendorAttributesInOneVendorSpecific) {
  EXPECT_EQ(text_of_lines(strait(),
                          "1a1100007ed9"
                          "01046162"
                          "0903ff"
                          "040102"
                          "03"),
            "26.32473=0x010461620903ff04010203 ! not in the vendor's form\n");
  EXPECT_EQ(text_of_lines(strait(),
                          "1a0d00007ed9"
                          "01046162"
                          "0903ff"),
            "Strait-Ferry=\"ab\"\n26.32473.9=0xff\n");
  EXPECT_EQ(text_of_lines(strait(), "1a0600007ed9"), "26.32473=\"\" ! no vendor attribute in it\n");
  EXPECT_EQ(text_of_lines(strait(),
                          "1a04"
                          "0000"),
            "Vendor-Specific=0x0000 ! 2 octets, Vendor-Specific has 4 or more\n");
}

TEST(Describe, VendorsWithOtherWidths) {
  const Catalogue wide = with(R"(
vendor = { name = "Wide", number = 32473, type_octets = 4, length_octets = 2 }
attribute = [ { number = 70000, name = "Wide-One", type = "text" } ]
)");
  EXPECT_EQ(to_hex(*encode(wide, "Wide-One", "ab")),
            "1a0e00007ed9"
            "00011170"
            "0008"
            "6162");
  EXPECT_EQ(text_of_lines(wide,
                          "1a0e00007ed9"
                          "00011170"
                          "0008"
                          "6162"),
            "Wide-One=\"ab\"\n");
  const Catalogue none = with(R"(
vendor = { name = "None", number = 32473, type_octets = 2, length_octets = 0 }
attribute = [ { number = 600, name = "None-One", type = "integer" } ]
)");
  EXPECT_EQ(text_of_lines(none, to_hex(*encode(none, "None-One", "7"))), "None-One=7\n");
}

TEST(Describe, TlvsAreShownInsideOneAnother) {
  EXPECT_EQ(text_of_lines(strait(),
                          "1a1500007ed9040f0106000000030207"
                          "0105722c64"),
            "Strait-Berth=(13 octets)\n  Strait-Berth-Number=3\n  Strait-Berth-Lamp=(5 octets)\n    "
            "Strait-Lamp-Colour=\"r,d\"\n");
  EXPECT_EQ(text_of_lines(strait(),
                          "1a0b00007ed904050106"
                          "00"),
            "Strait-Berth=0x010600 ! not made of tlvs\n");
}

TEST(Describe, EveryOctetIsToldOf) {
  const Octets octets = *from_hex(
      "1a1c00007ed9"
      "01046162"
      "040c"
      "010600000003"
      "02040101"
      "090302"
      "0903ff"
      "0104"
      "6162");
  const auto lines = describe(strait(), octets);
  std::vector<int> told(octets.size());
  for (const Described& line : lines) {
    for (const Range& range : line.pieces) {
      for (std::size_t at = range.at; line.depth == 0 && at < range.at + range.size; ++at) ++told[at];
    }
  }
  EXPECT_THAT(told, testing::Each(1));
  ASSERT_GT(lines.size(), 2U);
  EXPECT_EQ(lines[0].pieces, (std::vector<Range>{{0, 6}, {6, 4}}));
  EXPECT_EQ(lines[2].name, "Strait-Berth-Number");
  EXPECT_EQ(lines[2].pieces, (std::vector<Range>{{12, 6}}));
}

TEST(Describe, ExtendedAttributesThatAreMalformed) {
  EXPECT_EQ(text_of_lines(strait(), "f102"),
            "Extended-Type-1=\"\" ! no octets, an attribute of type extended has 1 or more\n");
  EXPECT_THAT(text_of_lines(strait(), "f50301"),
              HasSubstr("1 octets, an attribute of type long-extended has 2 or more"));
  EXPECT_THAT(text_of_lines(strait(),
                            "f5060480"
                            "6162"),
              HasSubstr("the last piece has the More flag, but nothing follows"));
  EXPECT_THAT(text_of_lines(strait(), "f1051a0000"),
              HasSubstr("an evs has a vendor of 4 octets and a type of 1"));
}

TEST(Describe, HiddenValuesOpenWithTheRightSecretAlone) {
  const wire::Authenticator request{9, 8, 7};
  const auto hide = [&](Hiding, OctetView value) {
    return wire::hide_salted(value, 0x8001, request, secret("laut"));
  };
  const auto door = encode(strait(), "Strait-Door-Code", "4711", hide);
  const auto tunnel = encode(strait(), "Tunnel-Password[2]", "pw", hide);
  wire::PacketBuilder packet(wire::Code::access_accept, 1, {});
  ASSERT_TRUE(packet.add_encoded(*door));
  ASSERT_TRUE(packet.add_encoded(*tunnel));
  const auto view = wire::PacketView::parse(packet.finish());
  const auto shown = [&](const char* with_secret) {
    const auto key = secret(with_secret);
    const Opening opening{key, request};
    const auto lines = describe(strait(), *view, &opening);
    return lines.at(0).name + "=" + lines.at(0).value + " " + lines.at(1).name + "=" + lines.at(1).value;
  };
  EXPECT_EQ(shown("laut"), "Strait-Door-Code=\"4711\" Tunnel-Password[2]=\"pw\"");
  EXPECT_EQ(
      shown("lautan"),
      "Strait-Door-Code=(unreadable with this secret) Tunnel-Password[2]=(unreadable with this secret)");
  EXPECT_EQ(describe(strait(), *view).at(0).value, "(hidden, 18 octets)");
}

TEST(Describe, RandomAttributesNeverGoBeyondTheirOctets) {
  support::FixedRandom random(6929);
  for (int round = 0; round < 20000; ++round) {
    Octets attributes;
    for (std::uint32_t i = 1 + random.below(4); i > 0; --i) {
      static constexpr std::uint8_t kTypes[] = {26, 241, 245, 246, 79, 69, 2, 1};
      Octets value(random.below(40));
      random.fill(value);
      if (value.size() > 6 && random.below(2) == 0) store32(value.data(), 32473);
      attributes.push_back(kTypes[random.below(8)]);
      attributes.push_back(static_cast<std::uint8_t>(value.size() + 2));
      append(attributes, value);
    }
    for (const Described& line : describe(strait(), attributes)) {
      for (const Range& range : line.pieces) ASSERT_LE(range.at + range.size, attributes.size());
    }
  }
}

TEST(Salted, RoundTripsAtEveryLengthAndRefusesAnotherSecret) {  // RFC 2868 §3.5
  const wire::Authenticator request{1, 2, 3};
  for (std::size_t length = 0; length <= 239; ++length) {
    const std::string value(length, 'k');
    const auto hidden = wire::hide_salted(view_of(value), 0x0042, request, secret("one"));
    ASSERT_TRUE(hidden);
    EXPECT_EQ((*hidden)[0] & 0x80, 0x80);
    EXPECT_EQ((hidden->size() - 2) % 16, 0U);
    EXPECT_EQ(text_of(*wire::reveal_salted(*hidden, request, secret("one"))), value);
  }
  int opened = 0;
  for (int i = 0; i < 200; ++i) {
    const auto hidden = wire::hide_salted(view_of(std::string_view("key")), static_cast<std::uint16_t>(i),
                                          request, secret("one"));
    opened += wire::reveal_salted(*hidden, request, secret("two")) ? 1 : 0;
  }
  EXPECT_EQ(opened, 0);
  EXPECT_FALSE(wire::hide_salted(Octets(240), 1, request, secret("one")));
  EXPECT_FALSE(wire::reveal_salted(Octets(17), request, secret("one")));
}

TEST(Advice, NamesWhatTheTablesForbid) {  // RFC 2865 §5.44, RFC 2868 §4
  const auto advice_for = [](wire::Code code, std::vector<std::pair<const char*, const char*>> attributes) {
    wire::PacketBuilder packet(code, 1, {});
    for (const auto& [name, value] : attributes) (void)packet.add_encoded(*encode(standard(), name, value));
    return advise(code, describe(standard(), *wire::PacketView::parse(packet.finish())));
  };
  EXPECT_THAT(
      advice_for(wire::Code::access_reject, {{"Tunnel-Private-Group-ID", "30"}, {"Reply-Message", "no"}}),
      testing::ElementsAre("Tunnel-Private-Group-ID must not stand in an Access-Reject (RFC 2868)"));
  EXPECT_THAT(
      advice_for(wire::Code::access_request, {{"User-Name", "a"}, {"User-Name", "b"}}),
      testing::ElementsAre("User-Name stands 2 times in an Access-Request, which may have 1 (RFC 2865)"));
  EXPECT_THAT(
      advice_for(wire::Code::access_accept,
                 {{"Class", "a"}, {"Class", "b"}, {"Tunnel-Type[1]", "VLAN"}, {"Tunnel-Type[2]", "VLAN"}}),
      testing::IsEmpty());
}

std::string problems_with(std::string_view toml) {
  Catalogue catalogue(standard());
  document::Problems problems;
  const auto file = document::parse("d.toml", toml, problems);
  if (file) read_into(catalogue, *file, problems);
  return problems.text();
}

TEST(ReadDictionary, WhatCannotBeIsNamed) {
  const std::string vendor = "vendor = { name = \"V\", number = 32473 }\n";
  EXPECT_THAT(problems_with("vendor = { name = \"V\", number = 32473, type_octets = 3 }"),
              HasSubstr("'type_octets' is 3\n"));
  EXPECT_THAT(problems_with("vendor = { name = \"X\", number = 311, type_octets = 2 }"),
              HasSubstr("vendor 311 is 'vendor 311' (rfc2548.toml"));
  EXPECT_THAT(problems_with(vendor + "attribute = [ { number = 256, name = \"A\", type = \"text\" } ]"),
              HasSubstr("number 256 of 'A' does not fit its field; allowed: 1 to 255"));
  EXPECT_THAT(problems_with(vendor + "attribute = [ { number = \"5.1\", name = \"A\", type = \"text\" } ]"),
              HasSubstr("'A' stands inside attribute 26.32473.5, which is not defined before it"));
  EXPECT_THAT(problems_with(vendor + "attribute = [ { number = 5, name = \"B\", type = \"text\" }, { number "
                                     "= \"5.1\", name = \"A\", type = \"text\" } ]"),
              HasSubstr("'A' stands inside 'B', which is of type text and holds no others"));
  EXPECT_THAT(problems_with("attribute = [ { number = 1, name = \"A\", type = \"text\" } ]"),
              HasSubstr("number 1 of 'A' belongs to 'User-Name' (rfc2865.toml:4) already"));
  EXPECT_THAT(problems_with(vendor + "attribute = [ { number = 1, name = \"user-name\", type = \"text\" } ]"),
              HasSubstr("name 'user-name' belongs to attribute 1 (rfc2865.toml:4) already"));
  EXPECT_THAT(problems_with(vendor + "attribute = [ { number = 1, name = \"A\", type = \"txt\" } ]"),
              HasSubstr("nearest: 'text'"));
  EXPECT_THAT(problems_with(vendor + "attribute = [ { number = 1, name = \"1.2\", type = \"text\" } ]"),
              HasSubstr("'name' is '1.2'"));
  EXPECT_THAT(
      problems_with(vendor +
                    "attribute = [ { number = 1, name = \"A\", type = \"text\", packets = \"0-1 0\" } ]"),
      HasSubstr("'packets' is '0-1 0'"));
  EXPECT_THAT(problems_with("[values.Prompt]\nEcho = 7\n"), HasSubstr("value 'Echo' of Prompt is 1 already"));
}

}  // namespace
}  // namespace jembatan::dictionary
