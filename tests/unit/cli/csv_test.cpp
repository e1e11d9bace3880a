#include "cli/csv.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

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

nlohmann::json value_in(const std::string& key, const std::string& value) {
  nlohmann::json fields;
  const Status read = read_assignment(key + "=" + value, fields);
  EXPECT_TRUE(read) << key;
  return fields[key];
}

Error problem_with(const std::string& text) {
  nlohmann::json fields;
  const Status read = read_assignment(text, fields);
  return read ? Error{Errc::io, "none"} : read.error();
}

TEST(Assignment, ReadsValuesAsThePlanWritesThem) {
  EXPECT_EQ(value_in("groups+", "crew"), "crew");
  EXPECT_EQ(value_in("weight", "50"), 50);
  EXPECT_EQ(value_in("enabled", "false"), false);
  EXPECT_EQ(value_in("waits", "20s"), "20s");
  EXPECT_EQ(value_in("address", "192.0.2.7"), "192.0.2.7");
  EXPECT_EQ(value_in("labels.deck", "2"), "2");
  EXPECT_EQ(value_in("accounting", "[\"here\", \"x\"]"), nlohmann::json::array({"here", "x"}));
  EXPECT_EQ(value_in("note", "a = b"), "a = b");
  EXPECT_TRUE(value_in("note", "").is_null());
}

TEST(Assignment, TakesSecretsFromFilesAlone) {
  EXPECT_EQ(problem_with("secret=hush").code, Errc::malformed);
  EXPECT_EQ(problem_with("secret=hush").text.find("hush"), std::string::npos);
  EXPECT_EQ(problem_with("server.reef-1.secret=hush").code, Errc::malformed);
  EXPECT_EQ(problem_with("secret+=hush").code, Errc::malformed);
  EXPECT_EQ(problem_with("password.clear-=hush").code, Errc::malformed);
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "s", "in the file\n");
  EXPECT_EQ(value_in("secret", "@" + (folder.path() / "s").string()), "in the file");
  EXPECT_EQ(problem_with("secret=@/nowhere").code, Errc::not_found);
  EXPECT_EQ(problem_with("no assignment").code, Errc::malformed);
}

}  // namespace
}  // namespace jembatan::cli
