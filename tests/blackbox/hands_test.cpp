// What operators do by hand, command by command, against a real node (issue 10, part 5).
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::HasSubstr;
using testing::Not;

class Hands : public testing::Test {
 protected:
  void SetUp() override {
    node.start();
    support::write_file(folder.path() / "plan.toml", kHere + R"(
[[group]]
name = "homes"
[[group.server]]
name = "home-1"
address = "192.0.2.9"
secret = "karang dari timur 7"
[[access]]
name = "crew"
permit = true
[[access]]
name = "others"
permit = false
)");
    ASSERT_EQ(run({"plan", "apply", folder.path().string()}).exit_code, 0);
  }
  support::Finished run(std::vector<std::string> words) const {
    words.insert(words.end(), {"--node", node.file()});
    return client(words);
  }
  std::vector<std::string> rules() const {
    std::vector<std::string> out;
    const json body = node.ask_node({"access", "list"});
    for (const json& rule : body["objects"]) out.push_back(rule["name"]);
    return out;
  }
  std::string file(const std::string& name) const { return (folder.path() / name).string(); }

  TestNode node{"home", "", TestNode::Plan::by_commands};
  support::TemporaryFolder folder;
};

TEST_F(Hands, ARuleIsAddedWhereItBelongs) {
  EXPECT_EQ(run({"access", "add", "night", "permit=false", "--before", "others"}).exit_code, 0);
  EXPECT_EQ(run({"access", "add", "first", "permit=false", "--first"}).exit_code, 0);
  EXPECT_EQ(run({"access", "add", "behind", "permit=no", "--after", "crew"}).exit_code, 0);
  EXPECT_THAT(rules(), testing::ElementsAre("first", "crew", "behind", "night", "others"));
  EXPECT_EQ(run({"access", "move", "first", "--after", "night"}).exit_code, 0);
  EXPECT_THAT(rules(), testing::ElementsAre("crew", "behind", "night", "first", "others"));
  EXPECT_EQ(run({"access", "move", "first"}).exit_code, 2);
  EXPECT_EQ(run({"access", "add", "x", "permit=true", "--first", "--last"}).exit_code, 2);
  EXPECT_THAT(run({"access", "add", "x", "permit=true", "--before", "otters"}).error,
              HasSubstr("nearest: 'others'"));
}

TEST_F(Hands, AChangeIsTakenBackAndHistoryNamesIt) {
  EXPECT_EQ(run({"client", "set", "here", "waits=20s", "-m", "slow"}).exit_code, 0);
  EXPECT_THAT(run({"plan", "history"}).out, HasSubstr("client here changed"));
  const auto undone = run({"plan", "undo"});
  EXPECT_THAT(undone.out, HasSubstr("waits: \"20s\" taken away"));
  EXPECT_THAT(run({"plan", "history"}).out, HasSubstr("undo of revision 2: slow"));
  EXPECT_THAT(run({"plan", "undo"}).out, HasSubstr("waits: \"20s\""));  // and back again
  EXPECT_EQ(node.ask_node({"plan", "history", "--since", "10m", "--most", "9"})["revisions"].size(), 4U);
  EXPECT_EQ(node.ask_node({"plan", "history", "--until", "10m"})["revisions"].size(), 0U);
}

TEST_F(Hands, ANodesPlanIsCheckedWhereItIs) {
  const auto checked = run({"plan", "check"});
  EXPECT_EQ(checked.exit_code, 0);
  EXPECT_THAT(checked.out, HasSubstr("0 errors, "));
  EXPECT_THAT(checked.out, HasSubstr(": 1 client, 1 user, 1 realm, 1 group"));
  EXPECT_EQ(client({"plan", "check"}).exit_code, 2);
  EXPECT_EQ(run({"plan", "check", folder.path().string()}).exit_code, 2);
}

TEST_F(Hands, AnExportOverwritesNothingOfOthers) {
  const auto refused = run({"plan", "export", folder.path().string()});
  EXPECT_EQ(refused.exit_code, 4);
  support::write_file(folder.path() / "own" / "clients.toml", "# mine\n");
  EXPECT_EQ(run({"plan", "export", file("own")}).exit_code, 4);
  EXPECT_EQ(support::read_file(folder.path() / "own" / "clients.toml"), "# mine\n");
  EXPECT_EQ(run({"plan", "export", file("new")}).exit_code, 0);
  EXPECT_EQ(run({"plan", "export", file("new")}).exit_code, 0);  // its own it may
  support::write_file(folder.path() / "new" / "clients.toml",
                      support::read_file(folder.path() / "new" / "clients.toml") + "# x\n");
  const auto edited = run({"plan", "export", file("new")});
  EXPECT_EQ(edited.exit_code, 4);
  EXPECT_THAT(edited.error, HasSubstr("was not written by an export, or was changed since"));
  EXPECT_EQ(run({"plan", "apply", file("new")}).exit_code, 0);
  EXPECT_EQ(run({"plan", "export", file("new")}).exit_code, 0);  // what was applied is not lost
}

TEST_F(Hands, ServersSecretsAreShownAndRotatedAndGoIntoFiles) {
  EXPECT_EQ(run({"group", "secret", "show", "homes/home-1"}).out, "karang dari timur 7\n");
  EXPECT_EQ(run({"group", "secret", "rotate", "homes/home-1", "--out", file("secret")}).exit_code, 0);
  const std::string fresh = support::read_file(folder.path() / "secret");
  EXPECT_EQ(run({"group", "secret", "show", "homes/home-1"}).out, fresh);
  struct stat found {};
  ASSERT_EQ(::stat(file("secret").c_str(), &found), 0);
  EXPECT_EQ(found.st_mode & 0777U, 0600U);
  for (const std::string what : {"show", "rotate"})  // the file is there: nothing is changed
    EXPECT_EQ(run({"client", "secret", what, "here", "--out", file("secret")}).exit_code, 4) << what;
  EXPECT_EQ(run({"client", "secret", "show", "here"}).out, "laut\n");
  EXPECT_EQ(run({"node", "token", "create", "wulan", "--role", "viewer", "--out", file("token")}).exit_code,
            0);
  EXPECT_EQ(support::read_file(folder.path() / "token").size(), 65U);
  EXPECT_THAT(node.ask_node({"audit", "--action", "secret show"}).dump(), HasSubstr("server homes/home-1"));
}

TEST_F(Hands, ARotationIsNotEndedWhileTheOldSecretIsUsed) {
  EXPECT_EQ(run({"client", "secret", "rotate", "here", "--out", file("new-secret")}).exit_code, 0);
  EXPECT_EQ(client({"ask", "status", "--to", node.access_to(), "--secret", "laut"}).exit_code, 0);
  const auto refused = run({"client", "secret", "finish", "here"});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_THAT(refused.error, HasSubstr("client here last used the old secret (20"));
  EXPECT_EQ(
      client({"ask", "status", "--to", node.access_to(), "--secret-file", file("new-secret")}).exit_code, 0);
  EXPECT_EQ(run({"client", "secret", "finish", "here"}).exit_code, 0);
}

TEST_F(Hands, UsersComeFromATableAndAreFoundAgain) {
  support::write_file(
      folder.path() / "crew.csv",
      "Login,Password,Crew,Vlan\nsari@reef.example,laut-biru-7,crew;deck,30\nbudi@reef.example,x-7,,\n");
  const std::vector<std::string> import{"user", "import", file("crew.csv"), "--map",
                                        "name=Login,password=Password,groups=Crew,reply.vlan=Vlan"};
  auto dry = import;
  dry.push_back("--dry-run");
  EXPECT_THAT(run(dry).out, HasSubstr("2 added\na dry run: revision 1 stays in force"));
  const auto done = run(import);
  EXPECT_EQ(done.exit_code, 0) << done.error;
  EXPECT_THAT(done.out, Not(HasSubstr("laut-biru-7")));
  EXPECT_THAT(run({"user", "list", "--group", "deck"}).out, HasSubstr("sari@reef.example"));
  EXPECT_THAT(run({"user", "list", "--group", "deck"}).out, Not(HasSubstr("budi@reef.example")));
  EXPECT_EQ(node.ask_node({"user", "list", "--realm", "REEF.example"})["objects"].size(), 3U);
  EXPECT_EQ(client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                    "sari@reef.example", "--password", "laut-biru-7", "--expect", "vlan=30"})
                .exit_code,
            0);
  support::write_file(folder.path() / "twice.csv", "name\na\na\n");
  EXPECT_THAT(run({"user", "import", file("twice.csv")}).error,
              HasSubstr("twice.csv line 3: user 'a' stands in line 2 already; nothing was changed"));
}

TEST_F(Hands, AClientIsRenamedAndKeepsItsSecret) {
  EXPECT_EQ(run({"client", "rename", "here", "bow"}).exit_code, 0);
  EXPECT_EQ(run({"client", "secret", "show", "bow"}).out, "laut\n");
  EXPECT_EQ(run({"client", "rename", "bow"}).exit_code, 2);
}

TEST_F(Hands, APacketIsOpenedWithWhicheverSecretOfThePlanFits) {
  // Status-Server, signed with the server's secret.
  const auto asked = client({"ask", "status", "--to", node.access_to(), "--secret", "laut", "--json"});
  EXPECT_EQ(asked.exit_code, 0);
  support::write_file(folder.path() / "one", "another one altogether");
  support::write_file(folder.path() / "two", "xyzzy5461");
  const std::string packet = "012a00260f403f9473978057bd83d5cb98f4227a5012" + std::string(32, '0');
  const auto none = client({"decode", "--secret-file", file("one"), "--secret-file", file("two"), packet});
  EXPECT_THAT(none.out, HasSubstr("authenticators not checked: none of 2 secrets verifies it"));
  const auto of_plan = run({"decode", "--plan-secrets", packet});
  EXPECT_THAT(of_plan.out, HasSubstr("none of 2 secrets verifies it"));
  EXPECT_THAT(node.ask_node({"audit", "--action", "secret export"}).dump(), HasSubstr("revision 1"));
}

}  // namespace
}  // namespace jembatan::blackbox
