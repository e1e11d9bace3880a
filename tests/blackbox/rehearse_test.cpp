// Rehearsals over the demo chain, with something wrong in it, and without the wire.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <unistd.h>

#include <iostream>
#include <thread>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::HasSubstr;
using testing::Not;

const std::string kRehearsals = std::string(JEMBATAN_SOURCE_DIR) + "/rehearsals/";
const std::string kPlans = std::string(JEMBATAN_SOURCE_DIR) + "/plans/demo/";

class LabRehearsal : public testing::Test {
 protected:
  void SetUp() override { ASSERT_EQ(run({"lab", "up", "--free-ports"}).exit_code, 0); }
  void TearDown() override { (void)run({"lab", "down"}); }
  support::Finished run(const std::vector<std::string>& words) const {
    return client(words, {"JEMBATAN_LAB=" + (folder.path() / "lab").string()});
  }
  std::string file(const std::string& name, const std::string& text) const {
    support::write_file(folder.path() / name, text);
    return (folder.path() / name).string();
  }
  support::TemporaryFolder folder;
};

TEST_F(LabRehearsal, TheDemoChainsOwnAreGreen) {
  for (const char* name : {"1-ladder.toml", "2-names.toml", "3-weights.toml", "5-accounting.toml"}) {
    const auto done = run({"rehearse", kRehearsals + name});
    EXPECT_EQ(done.exit_code, 0) << done.out << done.error;
    EXPECT_THAT(done.out, HasSubstr(" 0 failed in "));
  }
}

TEST_F(LabRehearsal, ThoseOfTheDirectoryAreGreen) {
  (void)run({"lab", "down"});
  ASSERT_EQ(run({"lab", "up", "--free-ports", "--directory", "--fresh"}).exit_code, 0);
  const auto done = run({"rehearse", kRehearsals + "directory"});
  EXPECT_EQ(done.exit_code, 0) << done.out << done.error;
  EXPECT_THAT(done.out, HasSubstr(" 0 failed in "));
}

TEST_F(LabRehearsal, ThoseOfSecondFactorsAreGreenOverTheWireAndWithout) {
  (void)run({"lab", "down"});
  ASSERT_EQ(run({"lab", "up", "--free-ports", "--factors", "--fresh"}).exit_code, 0);
  const auto done = run({"rehearse", kRehearsals + "factors"});
  EXPECT_EQ(done.exit_code, 0) << done.out << done.error;
  EXPECT_THAT(done.out, HasSubstr(" 0 failed in "));
  const auto exported =
      run({"plan", "export", (folder.path() / "plan").string(), "--secrets", "--lab", "hub"});
  ASSERT_EQ(exported.exit_code, 0) << exported.error;
  const auto dry = run({"rehearse", kRehearsals + "factors", "--dry", "--plan",
                        (folder.path() / "plan").string(), "--at", "hub"});
  EXPECT_EQ(dry.exit_code, 0) << dry.out << dry.error;
}

TEST_F(LabRehearsal, AFaultThatIsLeftInIsRedInTheRightPlace) {
  ASSERT_EQ(run({"lab", "fault", "reef-1", "reject-all"}).exit_code, 0);
  const std::string junit = (folder.path() / "out.xml").string();
  const auto red = run({"rehearse", kRehearsals + "1-ladder.toml", "--junit", junit});
  EXPECT_EQ(red.exit_code, 1);
  EXPECT_THAT(red.out, HasSubstr("FAILED   the home server knows Sari of the crew"));
  EXPECT_THAT(red.out, HasSubstr("expected Access-Accept, came Access-Reject"));
  EXPECT_THAT(red.out, HasSubstr("ok       the second home server says the same"));
  EXPECT_THAT(red.out, HasSubstr("ok       the harbour decides for its own people"));
  const std::string written = support::read_file(junit);
  EXPECT_THAT(written, HasSubstr("<failure message=\"expected Access-Accept, came Access-Reject\">"));
  EXPECT_THAT(written, HasSubstr("tests=\"10\""));
  EXPECT_THAT(run({"lab", "status"}).out, HasSubstr("reject-all"));
}

TEST_F(LabRehearsal, ACasesFaultIsMendedWhenItEnds) {
  const std::string both = file("both.toml", R"(
[[case]]
name = "silent"
[[case.step]]
fault = "reef-1 silent"
[[case.step]]
access = "hub"
user = "tamu@reef.example"
password = "ombak-3"
times = 4
together = 4
wait = "10s"
expect = { code = "Access-Accept" }
[[case.step]]
until = { node = "hub", server = "reef-homes/reef-1", is = "down" }
[[case]]
name = "well again"
[[case.step]]
access = "hub"
user = "tamu@reef.example"
password = "ombak-3"
times = 8
expect = { code = "Access-Accept", within = "20s", shares = { "reef-homes/reef-1" = 75 }, tolerance = 13 }
)");
  const auto done = run({"rehearse", both, "--json"});
  EXPECT_EQ(done.exit_code, 0) << done.out;
  const json body = json::parse(done.out);
  EXPECT_EQ(body.at("cases").at(1).at("requests"), 8);
  EXPECT_THAT(run({"lab", "status"}).out, Not(HasSubstr("silent")));
}

TEST_F(LabRehearsal, WhoAnsweredAndWhatIsKeptIsCompared) {
  const std::string wrong = file("wrong.toml", R"(
[[case]]
name = "who"
[[case.step]]
access = "hub"
user = "tamu@reef.example"
password = "ombak-3"
expect = { server = "reef-homes/reef-9" }
[[case]]
name = "kept"
[[case.step]]
accounting = "edge"
user = "tamu@reef.example"
expect = { records = { edge = 1, hub = 2 }, online = { edge = 1, hub = 0 }, records_within = "1s" }
)");
  const auto done = run({"rehearse", wrong});
  EXPECT_EQ(done.exit_code, 1);
  EXPECT_THAT(done.out, HasSubstr("expected an answer of reef-homes/reef-9, came one of reef-homes/reef-"));
  EXPECT_THAT(done.out, HasSubstr("look at it: jembatan journal show 1 --across --lab hub"));
  EXPECT_THAT(done.out, HasSubstr("node hub keeps 1 record of it, expected 2"));
  EXPECT_THAT(done.out, HasSubstr("node hub has 1 session of it open, expected 0"));
}

TEST_F(LabRehearsal, ARequestThatHappenedBecomesACase) {
  ASSERT_EQ(run({"ask", "access", "--lab", "hub", "--user", "sari@reef.example", "--password", "laut-biru-7",
                 "NAS-Port-Type=Wireless-802-11"})
                .exit_code,
            0);
  std::string printed;
  EXPECT_TRUE(support::eventually([&] {
    return run({"journal", "rehearse", "1", "--lab", "hub"}).exit_code == 0;
  }));
  printed = run({"journal", "rehearse", "1", "--lab", "hub"}).out;
  EXPECT_THAT(printed, HasSubstr("NAS-Port-Type = \"Wireless-802-11\""));
  EXPECT_THAT(printed, HasSubstr("server = \"reef-homes/reef-"));  // on a machine that is busy, the second
  EXPECT_THAT(printed, Not(HasSubstr("laut-biru")));
  printed.replace(printed.find("TO BE FILLED IN"), 15, "laut-biru-7");
  printed.replace(printed.find(", server = "),
                  printed.find(" }", printed.find(", server = ")) - printed.find(", server = "), "");
  const auto done = run({"rehearse", file("seen.toml", printed)});
  EXPECT_EQ(done.exit_code, 0) << printed << done.out << done.error;
}

// Sign-ins through the hub at an even rate, while something happens to a node; gives their outcomes.
class UnderLoad : public LabRehearsal {
 protected:
  json outcomes_while(const std::string& node, const std::string& fault) const {
    support::Finished load;
    std::thread driving([&] {
      load = run({"ask", "load", "--lab", "hub", "--user", "tamu@reef.example", "--password", "ombak-3",
                  "--rate", "50", "--for", "6s", "--wait", "20s", "--json"});
    });
    EXPECT_TRUE(support::eventually([&] {
      const auto list = run({"server", "list", "--lab", "hub", "--json"});
      return list.exit_code == 0 && json::parse(list.out)["servers"][0]["answers"].get<int>() > 25;
    }));
    EXPECT_EQ(run({"lab", "fault", node, fault}).exit_code, 0);
    driving.join();
    const json out = json::parse(load.out).at("outcomes");
    std::cout << node << " " << fault << " under load: " << out.dump() << "\n";
    return out;
  }
};

TEST_F(UnderLoad, AHomeThatIsSwitchedOffRefusesNobody) {
  const json outcomes = outcomes_while("reef-1", "off");
  EXPECT_EQ(outcomes.size(), 1U) << outcomes;
  EXPECT_GT(outcomes.value("Access-Accept", 0), 250);
}

TEST_F(UnderLoad, AHubThatIsRestartedGivesNoWrongAnswer) {
  const json outcomes = outcomes_while("hub", "restart");
  EXPECT_GT(outcomes.value("Access-Accept", 0), 25);
  EXPECT_FALSE(outcomes.contains("Access-Reject")) << outcomes;
  EXPECT_FALSE(outcomes.contains("not genuine")) << outcomes;
  EXPECT_EQ(run({"ask", "access", "--lab", "hub", "--user", "tamu@reef.example", "--password", "ombak-3"})
                .exit_code,
            0);
}

// Each node in a network namespace of its own.
TEST(LabOfHosts, TheShipIsCutOffFromTheHarbourAndBack) {
  const std::string probe = "jembatan-probe-" + std::to_string(::getpid());
  const bool can = support::run({"ip", "netns", "add", probe}).exit_code == 0 &&
                   support::run({"ip", "-n", probe, "link", "add", "water", "type", "bridge"}).exit_code == 0;
  (void)support::run({"ip", "netns", "delete", probe});
  if (!can) GTEST_SKIP() << "nobody may make network namespaces here";
  support::TemporaryFolder folder;
  const auto run = [&](const std::vector<std::string>& words) {
    return client(words, {"JEMBATAN_LAB=" + (folder.path() / "lab").string()});
  };
  const auto sign_in = [&] {
    return run({"ask", "access", "--lab", "edge", "--user", "sari@reef.example", "--password", "laut-biru-7",
                "--wait", "1s", "--tries", "1"})
        .exit_code;
  };
  const auto up = run({"lab", "up", "--hosts", "--free-ports"});
  ASSERT_EQ(up.exit_code, 0) << up.error;
  EXPECT_THAT(up.out, HasSubstr("192.0.2.20"));
  EXPECT_TRUE(support::eventually([&] { return sign_in() == 0; }));
  const auto cut = run({"lab", "cut", "hub", "edge"});
  EXPECT_THAT(cut.out, HasSubstr("nothing gets from edge to hub and back: jembatan lab join edge hub"));
  EXPECT_NE(sign_in(), 0);
  EXPECT_EQ(run({"ask", "access", "--lab", "hub", "--user", "sari@reef.example", "--password", "laut-biru-7"})
                .exit_code,
            0)
      << "the harbour still reaches the homes";
  EXPECT_THAT(run({"lab", "join", "edge", "reef-1"}).error,
              HasSubstr("nothing is cut between edge and reef-1"));
  EXPECT_EQ(run({"lab", "join", "edge", "hub"}).exit_code, 0);
  EXPECT_TRUE(support::eventually([&] { return sign_in() == 0; }));
  EXPECT_EQ(run({"lab", "up", "--hosts"}).exit_code, 0) << "that is the lab already";
  EXPECT_EQ(run({"lab", "down"}).exit_code, 0);
  EXPECT_THAT(run({"lab", "cut", "edge", "hub"}).error, HasSubstr("sudo jembatan lab up --hosts --fresh"));
}

TEST(DryRehearsal, APlanDecidesWithoutTheWire) {
  const auto home =
      client({"rehearse", "--dry", "--plan", kPlans + "reef-1/plan", "--at", "reef-1", kRehearsals});
  EXPECT_EQ(home.exit_code, 0) << home.out << home.error;
  EXPECT_THAT(home.out, HasSubstr("ok       the home server keeps passengers from consoles"));
  const auto hub = client({"rehearse", "--dry", "--plan", kPlans + "hub/plan", "--at", "hub", kRehearsals});
  EXPECT_EQ(hub.exit_code, 0) << hub.out << hub.error;
  EXPECT_THAT(hub.out, HasSubstr("what group reef-homes would answer is not known here"));
  const auto wrong =
      client({"rehearse", "--dry", "--plan", kPlans + "reef-1/plan", kRehearsals + "2-names.toml"});
  EXPECT_EQ(wrong.exit_code, 1);
  EXPECT_THAT(wrong.out, HasSubstr("expected Access-Accept, came Access-Reject (the name has no realm)"));
  EXPECT_EQ(client({"rehearse", "--dry", kRehearsals}).exit_code, 2);
}

TEST(DryRehearsal, APlanThatFailsIsNotApplied) {
  TestNode home("home", "", TestNode::Plan::by_commands);
  home.start();
  support::TemporaryFolder folder;
  support::write_file(folder.path() / "plan.toml", kHere);
  const auto rehearsal = [&](const std::string& code) {
    support::write_file(
        folder.path() / "r" / "r.toml",
        "[[case]]\nname = \"tamu\"\n[[case.step]]\naccess = \"home\"\nuser = \"tamu@reef.example\"\n"
        "password = \"ombak-3\"\nexpect = { code = \"" +
            code + "\" }\n");
    return client({"plan", "apply", folder.path().string(), "--rehearse",
                   (folder.path() / "r" / "r.toml").string(), "--node", home.file()});
  };
  std::filesystem::create_directories(folder.path() / "r");
  const auto refused = rehearsal("Access-Reject");
  EXPECT_EQ(refused.exit_code, 1);
  EXPECT_THAT(refused.error, HasSubstr("the plan fails its rehearsals:"));
  EXPECT_THAT(refused.error, HasSubstr("tamu ("));
  EXPECT_THAT(refused.error, HasSubstr("expected Access-Reject, came Access-Accept"));
  EXPECT_EQ(home.ask_node({"node", "status"})["plan_revision"], 0);
  const auto applied = rehearsal("Access-Accept");
  EXPECT_EQ(applied.exit_code, 0) << applied.error;
  EXPECT_EQ(home.ask_node({"node", "status"})["plan_revision"], 1);
}

}  // namespace
}  // namespace jembatan::blackbox
