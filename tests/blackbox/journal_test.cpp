// The journal of a running node: told by the plan of then, or not kept at all.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::Contains;
using testing::HasSubstr;

std::string with_rule(const std::string& name) {
  return kHere + "[[access]]\nname = \"" + name + "\"\npermit = true\n";
}

void sign_in(const TestNode& node) {
  const auto asked = client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                             "tamu@reef.example", "--password", "ombak-3"});
  EXPECT_EQ(asked.exit_code, 0) << asked.error;
}

std::vector<std::string> trail(const TestNode& node, int number) {
  return node.ask_node({"journal", "show", std::to_string(number)})
      .value("trail", std::vector<std::string>{});
}

std::vector<int> with_text(const TestNode& node, const std::string& text) {
  std::vector<int> out;
  const json found = node.ask_node({"journal", "search", "--text", text});
  for (const json& one : found.at("requests")) out.push_back(one["number"].get<int>());
  return out;
}

TEST(PastRequests, AreToldByThePlanOfThen) {
  TestNode node("home");
  node.plan(with_rule("first watch"));
  node.start();
  sign_in(node);
  node.plan(with_rule("second watch"));
  EXPECT_EQ(client({"plan", "reload", "--node", node.file()}).exit_code, 0);
  sign_in(node);
  for (const bool again : {false, true}) {
    SCOPED_TRACE(again);
    EXPECT_THAT(trail(node, 1), Contains("access rule 1 'first watch': yes, it always matches"));
    EXPECT_THAT(trail(node, 2), Contains("access rule 1 'second watch': yes, it always matches"));
    EXPECT_EQ(with_text(node, "First Watch"), (std::vector<int>{1}));
    EXPECT_EQ(with_text(node, "watch"), (std::vector<int>{2, 1}));
    if (again) continue;
    EXPECT_EQ(node.stop(), 0);
    node.start();
  }
}

TEST(PastRequests, ANodeThatKeepsNoneSaysSo) {
  TestNode node("home", "[journal]\nkeep = \"0s\"\n");
  node.plan(kHere);
  std::filesystem::create_directories(node.path("data"));
  support::write_file(node.path("data/journal.sqlite"), "of earlier times");
  node.start();
  sign_in(node);
  EXPECT_FALSE(std::filesystem::exists(node.path("data/journal.sqlite")));
  EXPECT_THAT(node.log(), HasSubstr("journal: removed, for journal.keep is 0s"));
  const auto searched = client({"journal", "search", "--node", node.file()});
  EXPECT_NE(searched.exit_code, 0);
  EXPECT_THAT(searched.error, HasSubstr("this node keeps no journal: journal.keep is 0s in its node file"));
  EXPECT_EQ(node.ask_node({"node", "status"}).value("journal_shed", -1), 0);
}

TEST(PastRequests, OfAnOlderFormatAreSetAside) {
  TestNode node("home");
  node.plan(kHere);
  std::filesystem::create_directories(node.path("data"));
  const auto made =
      support::run({"/usr/bin/python3", "-c",
                    "import sqlite3; d = sqlite3.connect('" + node.path("data/journal.sqlite").string() +
                        "'); d.execute('CREATE TABLE request (number)'); "
                        "d.execute('PRAGMA user_version = 1'); d.commit()"});
  ASSERT_EQ(made.exit_code, 0) << made.error;
  node.start();
  EXPECT_THAT(node.log(), HasSubstr("made by an older version (tables 1, known 2); it was set aside as '" +
                                    node.path("data/journal.sqlite.aside-1").string() + "'"));
  sign_in(node);
  EXPECT_FALSE(trail(node, 1).empty());
}

}  // namespace
}  // namespace jembatan::blackbox
