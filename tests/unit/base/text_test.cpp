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
  EXPECT_EQ(text_of(*parse_time("2026-01-02T03:04:05+08:00")), "2026-01-01T19:04:05.000Z");
  EXPECT_FALSE(parse_time("2026-01-02T03:04:05"));
  EXPECT_FALSE(parse_time("4052-11-26T00:00:00.000Z"));  // beyond what a clock can hold
  EXPECT_FALSE(parse_time("0001-01-01T00:00:00Z"));
  EXPECT_TRUE(parse_time("2199-12-31T23:59:59Z"));
  EXPECT_FALSE(parse_time("2026-01-02T03:04:05+0800"));
}

TEST(Moment, IsWrittenInEveryFormThatPeopleUse) {
  const WallTime now = *parse_time("2026-11-25T07:00:00Z");
  const auto read = [&](const char* text, Count count = Count::back) {
    const auto time = parse_moment(text, now, count);
    return time ? second_text(*time) : "none";
  };
  EXPECT_EQ(read("10m"), "2026-11-25 06:50:00Z");
  EXPECT_EQ(read("10m", Count::ahead), "2026-11-25 07:10:00Z");
  EXPECT_EQ(read("04:30"), "2026-11-25 04:30:00Z");
  EXPECT_EQ(read("23:30"), "2026-11-24 23:30:00Z");  // the last one
  EXPECT_EQ(read("04:30", Count::ahead), "2026-11-26 04:30:00Z");
  EXPECT_EQ(read("2026-11-23"), "2026-11-23 00:00:00Z");
  EXPECT_EQ(read("2026-11-23 04:30"), "2026-11-23 04:30:00Z");
  EXPECT_EQ(read("2026-11-23T04:30:00+08:00"), "2026-11-22 20:30:00Z");
  for (const char* wrong :
       {"", "yesterday", "25:00", "2026-13-01", "4052-01-01", "99999999d", "36500d36500d", "04:30x", "10 m"})
    EXPECT_EQ(read(wrong), "none") << wrong;
  EXPECT_EQ(parse_moment("soon", now).error().text,
            "'soon' is no time; allowed: 10m (that long ago), 04:30, 2026-11-23, 2026-11-23 04:30 (UTC), "
            "2026-11-23T04:30:00+08:00");
}

TEST(Words, AreCountedAndHaveTheirArticles) {
  EXPECT_EQ(counted(1, "realm"), "1 realm");
  EXPECT_EQ(counted(0, "realm"), "0 realms");
  EXPECT_EQ(counted(2, "access"), "2 accesses");
  EXPECT_EQ(with_article("access rule"), "an access rule");
  EXPECT_EQ(with_article("user"), "a user");
}

TEST(Table, FitsItsWidth) {
  Table table({"number", "time (UTC)", "user", "a long heading", "reason"});
  table.add({"1", "2026-11-25 07:00:00", "a-very-long-name@lagoon.example", "yes",
             "wrong password (it differs in letter case alone)"});
  EXPECT_EQ(table.text(80),
            "number  time (UTC)           user           a long he…  reason\n"
            "1       2026-11-25 07:00:00  a-very-long-…  yes         wrong password (it\n"
            "                                                        differs in letter case\n"
            "                                                        alone)\n");
  EXPECT_EQ(cut("Ågesund", 3), "Åg…");
  EXPECT_EQ(cut("Åge", 3), "Åge");
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
