#include "base/text.h"

#include <gtest/gtest.h>

namespace jembatan {
namespace {

using namespace std::chrono_literals;

TEST(Nearest, FindsTheNameWithinThreeEdits) {
  const std::vector<std::string> names{"address", "labels", "secret"};
  EXPECT_EQ(nearest("secrt", names), "secret");
  EXPECT_EQ(nearest("Adress", names), "address");
  EXPECT_EQ(nearest("lables", names), "labels");  // two neighbours swapped
  EXPECT_EQ(nearest("password", names), std::nullopt);
  EXPECT_EQ(nearest("x", names), std::nullopt);
}

TEST(Escaped, KeepsPrintableUtf8AndShowsEverythingElse) {
  EXPECT_EQ(escaped("sari@reef.example"), "sari@reef.example");
  EXPECT_EQ(escaped("Jürgen"), "Jürgen");
  EXPECT_EQ(escaped(std::string_view("a\0b\n", 4)), "a\\x00b\\x0a");
  EXPECT_EQ(escaped("\xff\xfe"), "\\xff\\xfe");
  EXPECT_EQ(escaped("back\\slash"), "back\\\\slash");
  EXPECT_EQ(escaped("\x1b[31m"), "\\x1b[31m");
}

TEST(PlainText, RefusesOverlongSurrogateAndControlSequences) {
  EXPECT_TRUE(is_plain_text(view_of(std::string_view("ombak-3 ü €"))));
  EXPECT_FALSE(is_plain_text(view_of(std::string_view("\xc0\xaf"))));          // overlong
  EXPECT_FALSE(is_plain_text(view_of(std::string_view("\xed\xa0\x80"))));      // surrogate
  EXPECT_FALSE(is_plain_text(view_of(std::string_view("\xf5\x80\x80\x80"))));  // beyond Unicode
  EXPECT_FALSE(is_plain_text(view_of(std::string_view("\xe2\x82"))));          // cut off
  EXPECT_FALSE(is_plain_text(view_of(std::string_view("a\tb"))));
}

TEST(DurationText, ReadsSumsOfUnits) {
  EXPECT_EQ(*parse_duration("250ms"), 250ms);
  EXPECT_EQ(*parse_duration("30s"), 30s);
  EXPECT_EQ(*parse_duration("1h30m"), 90min);
  EXPECT_EQ(*parse_duration("2d"), 48h);
  for (const char* wrong : {"", "30", "s", "-1s", "30 s", "1y", "99999999999s"}) {
    EXPECT_FALSE(parse_duration(wrong)) << wrong;
  }
}

TEST(DurationText, IsPrintedInTheFormThatIsRead) {
  for (const char* text : {"0s", "250ms", "30s", "5m", "12h", "1h30m", "2d"}) {
    EXPECT_EQ(text_of(*parse_duration(text)), text);
  }
}

TEST(TimeText, RoundTrips) {
  const auto time = parse_time("2026-01-02T03:04:05.678Z");
  ASSERT_TRUE(time);
  EXPECT_EQ(text_of(*time), "2026-01-02T03:04:05.678Z");
  EXPECT_EQ(text_of(*parse_time("2026-01-02T03:04:05Z")), "2026-01-02T03:04:05.000Z");
  EXPECT_FALSE(parse_time("2026-01-02"));
  EXPECT_FALSE(parse_time("2026-01-02T03:04:05+01:00"));
}

TEST(JsonQuoted, EscapesWhatJsonForbids) {
  EXPECT_EQ(json_quoted("a\"b\\c"), R"("a\"b\\c")");
  EXPECT_EQ(json_quoted("line\nbreak"), R"("line\\x0abreak")");
}

TEST(Table, PadsColumnsToTheWidestCellAndCountsCharacters) {
  Table table({"user", "client"});
  table.add({"sári", "kerapu"});
  table.add({"budi-with-a-long-name", "hub"});
  EXPECT_EQ(table.text(),
            "user                   client\n"
            "sári                   kerapu\n"
            "budi-with-a-long-name  hub\n");
}

TEST(Hex, ReadsWhatItWrites) {
  EXPECT_EQ(to_hex(*from_hex("00ff10")), "00ff10");
  EXPECT_EQ(to_hex(*from_hex("00:FF 10\n")), "00ff10");
  EXPECT_EQ(from_hex("0").error().text, "odd number of hexadecimal digits; allowed: two an octet");
  EXPECT_EQ(from_hex("0g").error().text, "character 2 is not a hexadecimal digit");
}

TEST(ConstantTime, ComparesLengthsAndOctets) {
  EXPECT_TRUE(equal_in_constant_time(view_of(std::string_view("abc")), view_of(std::string_view("abc"))));
  EXPECT_FALSE(equal_in_constant_time(view_of(std::string_view("abc")), view_of(std::string_view("abd"))));
  EXPECT_FALSE(equal_in_constant_time(view_of(std::string_view("abc")), view_of(std::string_view("abcd"))));
}

}  // namespace
}  // namespace jembatan
