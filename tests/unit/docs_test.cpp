// What the documentation says of keys and commands is what the code's own tables say. To write it anew:
// JEMBATAN_WRITE_DOCS=1 build/release/tests/jembatan_unit_tests --gtest_filter='Docs.*'
#include <fmt/format.h>
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <cstdlib>
#include <filesystem>

#include "admin/api.h"
#include "cli/reference.h"
#include "dictionary/read.h"
#include "document/parse.h"
#include "plan/read.h"
#include "server/node_file.h"
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
  for (const auto& [key, meaning] : server::node_key_meanings())
    table += fmt::format("| `{}` | {} |\n", key, meaning);
  expect_page("node.md", with_table(support::read_file(kDocs / "node.md"), "node", table));
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
    const std::string method = call.substr(0, space) == "GET" ? "    get:" : "    post:";
    EXPECT_EQ(page.substr(page.find('\n', path + 1) + 1, method.size()), method) << call;
  }
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
  const auto any = [](const std::string&) -> Result<std::string> { return std::string("a secret"); };
  EXPECT_TRUE(plan::read(files, {any, any}, problems)) << problems.text();
}

}  // namespace
}  // namespace jembatan
