// From a symptom to the command that mends it, through real nodes (issue 10, part 4).
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using testing::HasSubstr;

std::vector<std::string> sign_in(const TestNode& node, const std::string& secret = "laut") {
  return {"ask",        "access",  "--to",    node.access_to(),
          "--secret",   secret,    "--user",  "tamu@reef.example",
          "--password", "ombak-3", "--tries", "1",
          "--wait",     "2s"};
}

TEST(Causes, AClientThatIsOffIsToldSinceWhenAndByWhom) {
  TestNode node("home", "", TestNode::Plan::by_commands);
  node.start();
  support::TemporaryFolder plan;
  support::write_file(plan.path() / "plan.toml", kHere);
  ASSERT_EQ(client({"plan", "apply", plan.path().string(), "--node", node.file()}).exit_code, 0);
  ASSERT_EQ(client({"client", "disable", "here", "-m", "in dock", "--node", node.file()}).exit_code, 0);
  auto words = sign_in(node);
  words.back() = "100ms";
  EXPECT_EQ(client(words).exit_code, 3);
  EXPECT_TRUE(node.log_has(", by local: in dock)"));
  EXPECT_THAT(node.log(), HasSubstr("(the client is switched off (since 20"));
  EXPECT_THAT(node.log(), HasSubstr("to switch it on: jembatan client enable here --node " + node.file()));
}

TEST(Causes, AnotherSecretIsToldAtTheHopThatAsks) {
  TestNode home("home");
  home.plan(kHere);
  home.start();
  TestNode hub("hub");
  hub.plan(client_here("laut") + group_to("homes", home, "karang") +
           "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\n");
  hub.start();
  auto words = sign_in(hub);
  words.back() = "10s";
  (void)client(words);
  EXPECT_TRUE(hub.log_has("no server answered (group homes: homes-1 is silent)"));
  EXPECT_THAT(hub.log(), HasSubstr("look at it: jembatan server check homes/homes-1 --node " + hub.file()));
  const auto looked = client({"ask", "status", "--server", "homes/homes-1", "--node", hub.file(), "--tries",
                              "1", "--wait", "200ms"});
  EXPECT_EQ(looked.exit_code, 3);
  EXPECT_THAT(looked.out,
              HasSubstr("asking server homes/homes-1 (" + home.access_to() + ") as node hub does"));
  // Mended where the two differ: the server's side is asked with the right one from now on.
  EXPECT_TRUE(home.log_has("compare with: jembatan client secret show here --node " + home.file()));
}

TEST(Causes, WhatAReplyIsExpectedToHold) {
  TestNode node("home");
  node.plan(kHere + "reply = { vlan = 30, Filter-Id = \"crew\" }\n");
  node.start();
  auto words = sign_in(node);
  const auto expecting = [&](std::vector<std::string> more) {
    auto all = words;
    for (const std::string& one : more) all.insert(all.end(), {"--expect", one});
    return client(all);
  };
  EXPECT_EQ(expecting({"vlan=30", "Filter-Id=crew", "Reply-Message="}).exit_code, 0);
  const auto other = expecting({"vlan=31", "Session-Timeout=60", "Filter-Id="});
  EXPECT_EQ(other.exit_code, 1);
  EXPECT_THAT(other.out, HasSubstr("expected Tunnel-Private-Group-ID \"31\", the reply has \"30\""));
  EXPECT_THAT(other.out, HasSubstr("expected Session-Timeout 60, the reply has none"));
  EXPECT_THAT(other.out, HasSubstr("expected no Filter-Id, the reply has \"crew\""));
  EXPECT_EQ(expecting({"Filtr-Id=crew"}).exit_code, 2);
  EXPECT_EQ(expecting({"vlan"}).exit_code, 2);
}

TEST(Causes, EveryMethodIsAskedByAndAgainstANodeByItsClient) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  for (const char* method : {"pap", "chap", "ms-chap", "ms-chap-v2"}) {
    std::vector<std::string> words{"ask",        "access",  "--node",   node.file(),
                                   "--client",   "here",    "--user",   "tamu@reef.example",
                                   "--password", "ombak-3", "--method", method};
    EXPECT_EQ(client(words).exit_code, 0) << method;
    words[9] = "ombak-4";
    EXPECT_EQ(client(words).exit_code, 1) << method;
  }
  const auto none = client({"ask", "access", "--node", node.file(), "--user", "x", "--password", "y"});
  EXPECT_EQ(none.exit_code, 2);
  EXPECT_THAT(none.error, HasSubstr("as whom? --client NAME, or --server GROUP/NAME"));
}

}  // namespace
}  // namespace jembatan::blackbox
