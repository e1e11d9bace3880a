#include "document/reading.h"

#include <gtest/gtest.h>

#include "document/parse.h"

namespace jembatan::document {
namespace {

struct Boat {
  std::string name;
  std::int64_t berths = 0;
  Duration waits{0};
};

const Field<Boat> kBoat[] = {
    {"name", Need::required, "a text",
     [](Reading& r, const Entry& e, Boat& b) { b.name = r.text(e).value_or(""); }},
    {"berths", Need::optional, "1 to 99",
     [](Reading& r, const Entry& e, Boat& b) { b.berths = r.integer(e, 1, 99).value_or(0); }},
    {"waits", Need::optional, "a duration",
     [](Reading& r, const Entry& e, Boat& b) {
       b.waits = r.duration(e, Duration(100), Duration(5000)).value_or(Duration(0));
     }},
    {"secret", Need::optional, "a text", [](Reading& r, const Entry& e, Boat&) { (void)r.text(e); }},
};

std::string report_of(std::string_view text) {
  Problems problems;
  const auto file = parse("boat.toml", text, problems);
  Boat boat;
  if (file) {
    Reading reading(*file, problems);
    read_fields<Boat>(reading, file->root, "a boat", kBoat, boat);
  }
  return problems.text();
}

TEST(Reading, AGoodFileHasNoProblem) {
  EXPECT_EQ(report_of("name = \"a\"\nberths = 3\nwaits = \"2s\""), "");
}

TEST(Reading, AnUnknownKeyIsShownWithTheAllowedAndTheNearestOnes) {
  EXPECT_EQ(report_of("name = \"a\"\nberhts = 3"),
            "boat.toml:2:1: error: unknown key 'berhts' in a boat\n"
            "    2 | berhts = 3\n"
            "      | ^^^^^^\n"
            "   allowed: name, berths, waits, secret; nearest: 'berths'\n");
}

TEST(Reading, AWrongTypeIsNamed) {
  EXPECT_EQ(report_of("name = 3"),
            "boat.toml:1:8: error: 'name' is a whole number\n"
            "    1 | name = 3\n"
            "      |        ^\n"
            "   allowed: text\n");
}

TEST(Reading, ANumberOutOfRangeIsShownWithTheRange) {
  EXPECT_EQ(report_of("name = \"a\"\n  berths = 100"),
            "boat.toml:2:12: error: 'berths' is 100\n"
            "    2 |   berths = 100\n"
            "      |            ^^^\n"
            "   allowed: 1 to 99\n");
}

TEST(Reading, DurationsHaveARange) {
  EXPECT_NE(report_of("name = \"a\"\nwaits = \"0s\"").find("error: 'waits' is 0s\n"), std::string::npos);
  EXPECT_NE(report_of("name = \"a\"\nwaits = \"soon\"").find("'waits' is 'soon', not a duration"),
            std::string::npos);
}

TEST(Reading, AllProblemsAreReportedTogetherInTheOrderOfTheFile) {
  const std::string report = report_of("berths = 0\nwaits = 1\nwrong = 2");
  EXPECT_NE(report.find("boat.toml:1:1: error: 'name' is missing in a boat"), std::string::npos);
  EXPECT_LT(report.find("boat.toml:1:10:"), report.find("boat.toml:2:9:"));
  EXPECT_LT(report.find("boat.toml:2:9:"), report.find("boat.toml:3:1:"));
}

TEST(Reading, ASecretIsNeverShown) {
  for (const char* text :
       {"secret = 123456789", "secrt = \"hunter-2\"", "name = { secret = \"hunter-2\" }",
        "secret = \"hunter-2\nname = \"a\"", "secret = hunter-2", "name = { a = 1, secrt = \"hunter-2\" }",
        "name = \"a\"\nberths = { waits = 3, pass = \"hunter-2\" }", "x = 1\nsecret = \"hunter-2\" y"}) {
    const std::string report = report_of(text);
    EXPECT_NE(report, "");
    EXPECT_EQ(report.find("hunter"), std::string::npos) << report;
    EXPECT_EQ(report.find("123456789"), std::string::npos) << report;
  }
}

TEST(Parse, ABracketThatIsMissingIsAnErrorWithItsPlace) {
  Problems problems;
  EXPECT_FALSE(parse("clients.toml", "[[client]\nname = \"a\"", problems));
  ASSERT_EQ(problems.errors(), 1U);
  EXPECT_EQ(problems.list()[0].at.line, 1U);
  EXPECT_EQ(problems.count_text(), "1 error, 0 advice");
}

TEST(Parse, KeepsTheOrderAndPlaceOfKeys) {
  Problems problems;
  const auto file = parse("a.toml", "z = 1\na = \"x\"\n[t]\nk = [true, 2.5]", problems);
  ASSERT_TRUE(file);
  EXPECT_EQ(file->root.entries[0].key, "z");
  EXPECT_EQ(file->root.entries[1].key, "a");
  EXPECT_EQ(file->root.entries[1].at.line, 2U);
  const Value* table = file->root.find("t");
  ASSERT_NE(table, nullptr);
  EXPECT_EQ(table->find("k")->items[0].kind, Kind::boolean);
  EXPECT_EQ(table->find("k")->items[1].kind, Kind::real);
}

TEST(ReadFile, NamesTheFileAndTheReason) {
  EXPECT_EQ(read_file("/nonexistent/file").error().text,
            "file '/nonexistent/file': No such file or directory");
  EXPECT_NE(read_file("/").error().text.find("is a folder"), std::string::npos);
  EXPECT_EQ(read_file("/dev/zero").error().text, "file '/dev/zero' is larger than 16 MiB");
  EXPECT_EQ(read_file("/dev/zero", 1U << 20U).error().text, "file '/dev/zero' is larger than 1 MiB");
}

}  // namespace
}  // namespace jembatan::document
