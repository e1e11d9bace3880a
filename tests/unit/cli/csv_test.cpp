#include "cli/csv.h"

#include <gtest/gtest.h>

#include "cli/assignment.h"
#include "support/process.h"

namespace jembatan::cli {
namespace {

std::string shown(std::string_view text) {
  const auto rows = read_csv(text);
  if (!rows) return rows.error().text;
  std::string out;
  for (const CsvRow& row : *rows) {
    out += std::to_string(row.line) + ":";
    for (const std::string& cell : row.cells) out += "[" + cell + "]";
    out += " ";
  }
  return out;
}

TEST(Csv, ReadsWhatRfc4180Says) {
  EXPECT_EQ(shown("a,b\n1,\"x, \"\"y\"\"\nz\"\n3,\n"), "1:[a][b] 2:[1][x, \"y\"\nz] 4:[3][] ");
  EXPECT_EQ(shown("\xEF\xBB\xBF"
                  "a;b\r\n1;2\r\n\r\n"),
            "1:[a][b] 2:[1][2] ");
  EXPECT_EQ(shown("a,b"), "1:[a][b] ");
  EXPECT_EQ(shown(""), "");
}

TEST(Csv, NamesTheLineOfAMistake) {
  EXPECT_EQ(shown("a,b\n1\n"), "line 2: 1 cells; the first row has 2");
  EXPECT_EQ(shown("a,b\n1,\"x\n"), "line 2: a quote that does not end");
  EXPECT_EQ(shown("a,b\n1,\"x\"y\n"), "line 2: text behind a closing quote");
}

TEST(Csv, CellsAreQuotedWhereTheyMustBe) {
  EXPECT_EQ(csv_cell("plain"), "plain");
  EXPECT_EQ(csv_cell("a,\"b\""), "\"a,\"\"b\"\"\"");
}

TEST(Assignment, ReadsValuesAsThePlanWritesThem) {
  EXPECT_EQ(read_assignment("weight=50")->value, 50);
  EXPECT_EQ(read_assignment("enabled=false")->value, false);
  EXPECT_EQ(read_assignment("waits=20s")->value, "20s");
  EXPECT_EQ(read_assignment("address=192.0.2.7")->value, "192.0.2.7");
  EXPECT_EQ(read_assignment("labels.deck=2")->value, "2");
  EXPECT_EQ(read_assignment("accounting=[\"here\", \"x\"]")->value, nlohmann::json::array({"here", "x"}));
  EXPECT_EQ(read_assignment("note=a = b")->value, "a = b");
  EXPECT_TRUE(read_assignment("note=")->value.is_null());
}

TEST(Assignment, TakesSecretsFromFilesAlone) {
  EXPECT_EQ(read_assignment("secret=hush").error().code, Errc::malformed);
  EXPECT_EQ(read_assignment("secret=hush").error().text.find("hush"), std::string::npos);
  EXPECT_EQ(read_assignment("server.reef-1.secret=hush").error().code, Errc::malformed);
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "s", "in the file\n");
  EXPECT_EQ(read_assignment("secret=@" + (folder.path() / "s").string())->value, "in the file");
  EXPECT_EQ(read_assignment("secret=@/nowhere").error().code, Errc::not_found);
  EXPECT_FALSE(read_assignment("no assignment"));
}

}  // namespace
}  // namespace jembatan::cli
