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
  EXPECT_THAT(node.log(), HasSubstr("made by an older version (tables 1, known 3); it was set aside as '" +
                                    node.path("data/journal.sqlite.aside-1").string() + "'"));
  sign_in(node);
  EXPECT_FALSE(trail(node, 1).empty());
}

class PreviewedPlan : public testing::Test {
 protected:
  PreviewedPlan() {
    home.plan(kHere + kRules);
    home.start();
    for (const char* password : {"ombak-3", "ombak-4"})
      (void)client({"ask", "access", "--to", home.access_to(), "--secret", "laut", "--user",
                    "tamu@reef.example", "--password", password, "NAS-Port-Type=Virtual"});
    (void)client({"ask", "access", "--to", home.access_to(), "--secret", "laut", "--user",
                  "tamu@reef.example", "--password", "ombak-3"});
  }
  support::Finished preview(const std::string& text, const std::vector<std::string>& more = {}) const {
    support::write_file(folder.path() / "plan.toml", text);
    std::vector<std::string> words{"plan", "preview", folder.path().string(), "--node", home.file()};
    words.insert(words.end(), more.begin(), more.end());
    return client(words);
  }
  static constexpr const char* kRules = R"(
[[access]]
name = "all"
permit = true
reply = { Filter-Id = "crew" }
)";
  TestNode home{"home"};
  support::TemporaryFolder folder;
};

TEST_F(PreviewedPlan, TheSamePlanChangesNothing) {
  const auto same = preview(kHere + kRules);
  EXPECT_EQ(same.exit_code, 0) << same.out << same.error;
  EXPECT_THAT(same.out, HasSubstr("3 requests looked at: 0 would go otherwise"));
}

TEST_F(PreviewedPlan, WhatWouldGoOtherwiseIsToldWithItsReason) {
  const auto other = preview(kHere + R"(
[[access]]
name = "no consoles"
when = 'NAS-Port-Type == Virtual'
permit = false
)" + kRules);
  EXPECT_EQ(other.exit_code, 1);
  EXPECT_THAT(other.out, HasSubstr("request 1 "));
  EXPECT_THAT(other.out, HasSubstr("would be rejected (an access rule denies (no consoles))"));
  EXPECT_THAT(other.out,
              HasSubstr("3 requests looked at: 1 would go otherwise"));  // a wrong password stays wrong
  EXPECT_EQ(home.ask_node({"node", "status"})["plan_revision"], 1);      // nothing was applied
}

TEST_F(PreviewedPlan, RepliesAreCompared) {
  const auto deck = preview(
      kHere + "[[access]]\nname = \"all\"\npermit = true\nreply = { Filter-Id = \"deck\" }\n", {"--json"});
  const json body = json::parse(deck.out);
  EXPECT_EQ(body.at("differ"), 2);
  EXPECT_EQ(body.at("otherwise").at(0).at("would"), "");
  EXPECT_EQ(body.at("otherwise").at(0).at("differences"),
            (json{"no more Filter-Id \"crew\"", "now Filter-Id \"deck\""}));
}

TEST_F(PreviewedPlan, WhereItWouldGoAndWhomItWouldNotKnow) {
  const std::string away =
      client_here("laut") +
      "[[realm]]\nname = \"reef.example\"\nhandle = \"group:away\"\n[[group]]\n"
      "name = \"away\"\n[[group.server]]\nname = \"one\"\naddress = \"198.51.100.1\"\nsecret = \"laut\"\n";
  EXPECT_THAT(preview(away).out, HasSubstr("would be sent to group away"));
  std::string stranger = kHere;
  stranger.replace(stranger.find("127.0.0.1"), 9, "192.0.2.7");
  EXPECT_THAT(preview(stranger).out, HasSubstr("would be unknown-client (nobody entered this address)"));
  const auto broken = preview("[[realm]]\nname = 7\n");
  EXPECT_EQ(broken.exit_code, 2);
  EXPECT_THAT(broken.error, HasSubstr("plan.toml:2"));
}

}  // namespace
}  // namespace jembatan::blackbox
