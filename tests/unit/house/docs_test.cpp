// What the documentation says of keys and commands is what the code's own tables say. To write it anew:
// JEMBATAN_WRITE_DOCS=1 build/debug/tests/jembatan_host_tests --gtest_filter='Docs.*'
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "admin/api.h"
#include "base/text.h"
#include "cli/reference.h"
#include "condition/condition.h"
#include "dictionary/read.h"
#include "document/parse.h"
#include "host/node_file.h"
#include "plan/advice.h"
#include "plan/read.h"
#include "rehearsal/case.h"
#include "support/packets.h"
#include "support/process.h"

namespace jembatan {
namespace {

const std::filesystem::path kDocs = std::filesystem::path(JEMBATAN_SOURCE_DIR) / "docs";

bool writing() {
  return std::getenv("JEMBATAN_WRITE_DOCS") != nullptr;
}

void expect_page(const std::string& name, const std::string& wanted) {
  if (writing()) support::write_file(kDocs / name, wanted);
  EXPECT_EQ(support::read_file(kDocs / name), wanted) << "docs/" << name;
}

// The page with the part between "<!-- table NAME -->" and "<!-- end -->" replaced.
std::string with_table(const std::string& page, const std::string& name, const std::string& table) {
  const std::string begin = "<!-- table " + name + " -->\n";
  const std::size_t at = page.find(begin);
  const std::size_t end = page.find("<!-- end -->", at);
  if (at == std::string::npos || end == std::string::npos) return page + "\n\nno place for the table " + name;
  return page.substr(0, at + begin.size()) + table + page.substr(end);
}

TEST(Docs, EveryCommandIsDescribed) {
  expect_page("commands.md", cli::commands_markdown());
}

TEST(Docs, EveryKeyOfThePlanIsDescribed) {
  std::string page = support::read_file(kDocs / "plan.md");
  std::map<std::string, std::string> tables;
  for (const plan::KeyMeaning& key : plan::key_meanings()) {
    std::string& table = tables[std::string(key.section)];
    if (table.empty()) table = "| key | required | meaning |\n|---|---|---|\n";
    table += fmt::format("| `{}` | {} | {} |\n", key.key, key.required ? "yes" : "no", key.meaning);
  }
  for (const auto& [section, table] : tables) page = with_table(page, section, table);
  expect_page("plan.md", page);
}

TEST(Docs, EveryKeyOfTheNodeFileIsDescribed) {
  std::string table = "| key | meaning |\n|---|---|\n";
  for (const auto& [key, meaning] : host::node_key_meanings())
    table += fmt::format("| `{}` | {} |\n", key, meaning);
  expect_page("node.md", with_table(support::read_file(kDocs / "node.md"), "node", table));
}

TEST(Docs, EveryKeyOfARehearsalIsDescribed) {
  std::string page = support::read_file(kDocs / "rehearsals.md");
  std::map<std::string, std::string> tables;
  for (const rehearsal::KeyMeaning& key : rehearsal::key_meanings()) {
    std::string& table = tables[key.section.empty() ? "file" : std::string(key.section)];
    if (table.empty()) table = "| key | meaning |\n|---|---|\n";
    table += fmt::format("| `{}` | {} |\n", key.key, key.meaning);
  }
  for (const auto& [section, table] : tables) page = with_table(page, section, table);
  expect_page("rehearsals.md", page);
}

TEST(Docs, TheExampleOfARehearsalIsOne) {
  const std::string page = support::read_file(kDocs / "rehearsals.md");
  const std::size_t begin = page.find("```toml\n") + 8;
  document::Problems problems;
  const auto file =
      document::parse("rehearsals.md", page.substr(begin, page.find("```", begin) - begin), problems);
  ASSERT_TRUE(file);
  const auto read = rehearsal::read(*file, problems);
  EXPECT_EQ(problems.text(), "");
  ASSERT_TRUE(read);
  EXPECT_EQ(read->cases.size(), 2U);
}

TEST(Docs, EveryKeyOfADictionaryIsDescribed) {
  std::string table = "| key | meaning |\n|---|---|\n";
  for (const auto& [key, meaning] : dictionary::dictionary_key_meanings()) {
    table += fmt::format("| `{}` | {} |\n", key, meaning);
  }
  expect_page("dictionaries.md",
              with_table(support::read_file(kDocs / "dictionaries.md"), "dictionary", table));
}

TEST(Docs, TheExampleOfADictionaryIsOne) {
  const std::string page = support::read_file(kDocs / "dictionaries.md");
  const std::size_t begin = page.find("```toml\n") + 8;
  document::Problems problems;
  const auto file =
      document::parse("dictionaries.md", page.substr(begin, page.find("```", begin) - begin), problems);
  ASSERT_TRUE(file);
  dictionary::Catalogue catalogue(dictionary::standard());
  dictionary::read_into(catalogue, *file, problems);
  EXPECT_EQ(problems.text(), "");
  EXPECT_NE(catalogue.named("Strait-Berth-Number"), nullptr);
}

TEST(Docs, EveryCallOfTheApiIsDescribed) {
  const std::string page = support::read_file(kDocs / "openapi.yaml");
  for (const std::string& call : admin::Api::calls()) {
    const std::size_t space = call.find(' ');
    const std::size_t path = page.find("\n  " + call.substr(space + 1) + ":\n");
    ASSERT_NE(path, std::string::npos) << call;
    const std::string described = page.substr(path, page.find("\n  /", path + 1) - path);
    const std::string method = call.substr(0, space) == "GET" ? "\n    get:\n" : "\n    post:\n";
    EXPECT_NE(described.find(method), std::string::npos) << call;
  }
}

TEST(Docs, EveryRuleOfTheChecksAdviceIsDescribed) {
  std::string table = "| rule | what it finds |\n|---|---|\n";
  for (const auto& [rule, meaning] : plan::advice_rules())
    table += fmt::format("| `{}` | {} |\n", rule, meaning);
  expect_page("plan.md", with_table(support::read_file(kDocs / "plan.md"), "advice", table));
}

// The reports of plans with mistakes: as `jembatan plan check` prints them, and as the documentation shows
// two.
TEST(Docs, PlansWithMistakesAreReportedAsWritten) {
  const std::filesystem::path golden =
      std::filesystem::path(JEMBATAN_SOURCE_DIR) / "tests" / "golden" / "plan-check";
  std::string page = support::read_file(kDocs / "plan.md");
  int plans = 0;
  for (const auto& entry : std::filesystem::directory_iterator(golden)) {
    document::Problems problems;
    const auto plan = plan::read_folder(entry.path(), problems);
    const std::string report = problems.text() + problems.count_text() + "\n";
    if (writing()) support::write_file(entry.path() / "report.txt", report);
    EXPECT_EQ(support::read_file(entry.path() / "report.txt"), report) << entry.path();
    EXPECT_EQ(plan == nullptr, problems.errors() > 0) << entry.path();
    const std::string name = entry.path().filename().string();
    const std::string begin = "<!-- golden " + name + " -->\n";
    const std::size_t at = page.find(begin);
    ++plans;
    if (at == std::string::npos) continue;
    std::string shown;
    for (const auto& file : std::filesystem::directory_iterator(entry.path())) {
      if (file.path().extension() == ".toml" && name == "two-brackets") {
        shown = "With this in `" + file.path().filename().string() + "`:\n\n```\n" +
                support::read_file(file.path()) + "```\n\n" + shown;
      }
    }
    shown += "```\n" + report + "```\n";
    page = page.substr(0, at + begin.size()) + shown + page.substr(page.find("<!-- end -->", at));
  }
  EXPECT_GE(plans, 5);
  expect_page("plan.md", page);
}

TEST(Docs, TheExamplesOfTheConditionsPageAreConditions) {
  const std::string page = support::read_file(kDocs / "conditions.md");
  const std::size_t begin = page.find("```condition\n") + 13;
  const std::string block = page.substr(begin, page.find("```", begin) - begin);
  int examples = 0;
  for (const std::string_view line : split(block, '\n')) {
    const std::string_view source = trim(line.substr(0, line.find("  #")));
    if (source.empty()) continue;
    std::vector<condition::Mistake> mistakes;
    EXPECT_TRUE(condition::Condition::parse(source, dictionary::standard(), mistakes))
        << source << ": " << (mistakes.empty() ? "" : mistakes.front().text);
    ++examples;
  }
  EXPECT_GE(examples, 15);
}

// Each ```toml block of the page that holds a plan is read as one; together they are one plan.
TEST(Docs, TheExamplesOfThePlansPageArePlans) {
  const std::string page = support::read_file(kDocs / "plan.md");
  std::string whole;
  int blocks = 0;
  for (std::size_t at = page.find("```toml\n"); at != std::string::npos;
       at = page.find("```toml\n", at + 1)) {
    const std::size_t begin = at + 8;
    whole += page.substr(begin, page.find("```", begin) - begin);
    ++blocks;
  }
  EXPECT_GE(blocks, 5);
  document::Problems problems;
  const std::vector<plan::SourceFile> files{{"plan.md", whole}};
  const auto any = [](const std::string&) -> Result<std::string> {
    return std::string("GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ");
  };
  EXPECT_TRUE(plan::read(files, {any, any}, problems)) << problems.text();
}

}  // namespace
}  // namespace jembatan
