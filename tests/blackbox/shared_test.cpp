// Nodes that share a PostgreSQL: what reaches it, while it is away, and when it is back.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include <atomic>
#include <fstream>
#include <thread>

#include "blackbox/shared_nodes.h"

namespace jembatan::blackbox {
namespace {

using testing::HasSubstr;
using testing::Not;

TEST_F(SharedDatabase, HasTheRecordsOfAllNodesOnceAlsoWhenItWasAwayAndNodesWereKilled) {
  TestNode one("hub-a", settings());
  TestNode other("hub-b", settings());
  for (TestNode* node : {&one, &other}) {
    node->plan(kHere);
    node->start();
    account(*node, "s1");
  }
  EXPECT_EQ(records("hub-a s1,hub-b s1"), "hub-a s1,hub-b s1");
  const auto listed = client({"node", "list", "--node", one.file()});
  EXPECT_EQ(listed.exit_code, 0) << listed.error;
  EXPECT_THAT(listed.out, HasSubstr("hub-a"));
  EXPECT_THAT(listed.out, HasSubstr("hub-b"));

  for (const std::string& sql : statements("## Asking it", "no end")) {
    const auto came = ask(sql);
    EXPECT_EQ(came.exit_code, 0) << sql << came.error;
  }

  database.stop();
  account(one, "s2");
  account(other, "s2");
  EXPECT_TRUE(one.log_has("shared database: records wait here until it takes them"));
  EXPECT_THAT(ready(one),
              HasSubstr("200 ready, but degraded: records do not reach the shared database since"));
  EXPECT_NE(client({"node", "list", "--node", one.file()}).exit_code, 0);
  one.kill();
  one.start();  // without the database
  account(one, "s3");

  database.start(kAccess);
  EXPECT_EQ(records("hub-a s1,hub-a s2,hub-a s3,hub-b s1,hub-b s2"),
            "hub-a s1,hub-a s2,hub-a s3,hub-b s1,hub-b s2");
  EXPECT_TRUE(support::eventually([&] { return ready(one) == "200 ready\n"; })) << ready(one);
  EXPECT_TRUE(other.log_has("shared database: reached again"));
  EXPECT_THAT(one.log() + other.log() + listed.out, Not(HasSubstr("by%20chance")));
  EXPECT_THAT(one.log() + other.log(), Not(HasSubstr(kPassword)));
  EXPECT_EQ(one.stop(), 0);
}

TEST_F(SharedDatabase, ThatCannotBeTakesNobodysAnswerAway) {
  TestNode node(
      "hub", "[shared]\ndatabase = \"host=127.0.0.1 port=1 dbname=ferries user=keeper password=rahasia\"\n");
  node.plan(kHere);
  node.start();
  account(node, "s1");
  EXPECT_TRUE(node.log_has("records wait here until it takes them"));
  EXPECT_THAT(client({"node", "list", "--node", node.file()}).error,
              HasSubstr("the shared database does not answer: connection"));
  EXPECT_THAT(node.log(), Not(HasSubstr("rahasia")));
  TestNode alone("alone");
  alone.plan(kHere);
  alone.start();
  const std::string none = client({"node", "list", "--node", alone.file()}).error;
  EXPECT_THAT(none, HasSubstr("shares no database with others"));
  EXPECT_THAT(none, Not(HasSubstr("does not answer")));
  const TestNode wrong("wrong", "[shared]\ndatabase = \"rahasia\"\n");
  wrong.plan(kHere);
  const auto refused = support::run({kServer, "--node", wrong.file()});
  EXPECT_NE(refused.exit_code, 0);
  EXPECT_THAT(refused.out + refused.error, HasSubstr("[shared] database is no connection string"));
  EXPECT_THAT(refused.out + refused.error, Not(HasSubstr("rahasia")));
}

TEST_F(SharedPlan, WhatIsChangedAtOneNodeIsInForceAtTheOther) {
  ASSERT_EQ(apply(one, kHere), 0);
  EXPECT_EQ(sign_in(one), 0);
  other.start();
  const auto words = way_in(other);
  EXPECT_THAT(ready(other), HasSubstr("503"));
  EXPECT_NE(sign_in(other), 0);
  const auto refused = on(other, {"user", "add", "sari@reef.example", "--password-file", other.file()});
  EXPECT_NE(refused.exit_code, 0);
  EXPECT_THAT(refused.error, HasSubstr("has no part in it yet"));
  const auto wrong = on(one, {"node", "admit", "hub-b", "0000-0000-0000-0000-0000-0000-0000-0000"});
  EXPECT_NE(wrong.exit_code, 0);
  EXPECT_THAT(wrong.error, HasSubstr("waiting: hub-b "));
  EXPECT_THAT(on(one, {"node", "list"}).out, HasSubstr("waits to be let in"));

  const auto admitted = on(one, words);
  EXPECT_EQ(admitted.exit_code, 0) << admitted.error;
  ASSERT_TRUE(has_revision(other, 1)) << other.log();
  EXPECT_EQ(sign_in(other), 0) << "with the secrets, too";
  EXPECT_TRUE(support::eventually([&] { return ready(other) == "200 ready\n"; })) << ready(other);
  EXPECT_NE(on(one, words).exit_code, 0) << "once";

  const auto set = on(other, {"user", "set", "tamu@reef.example", "enabled=false"});
  EXPECT_EQ(set.exit_code, 0) << set.error;
  ASSERT_TRUE(has_revision(one, 2)) << one.log();
  EXPECT_NE(sign_in(one), 0);
  EXPECT_THAT(on(one, {"plan", "history"}).out, HasSubstr("user tamu@reef.example changed"));
  EXPECT_THAT(on(one, {"audit"}).out, HasSubstr("user set"));
  const auto exported = [&](const TestNode& node) {
    const support::TemporaryFolder folder;
    const auto done = on(node, {"plan", "export", (folder.path() / "out").string()});
    EXPECT_EQ(done.exit_code, 0) << done.error;
    std::string out;
    for (const auto& file : std::filesystem::directory_iterator(folder.path() / "out"))
      if (file.is_regular_file()) out += support::read_file(file.path());
    return out;
  };
  EXPECT_EQ(exported(one), exported(other));

  // A token that one node made opens the other, until somebody revokes it there.
  const auto made = on(one, {"node", "token", "create", "wulan", "--role", "viewer"});
  const auto opens = [&](const TestNode& node) {
    httplib::Client http("127.0.0.1", node.management);
    http.set_bearer_token_auth(first_line(made.out));
    const auto came = http.Get("/v1/node");
    return came && came->status == 200;
  };
  EXPECT_TRUE(support::eventually([&] { return opens(other); })) << made.error;
  EXPECT_EQ(on(other, {"node", "token", "revoke", "wulan"}).exit_code, 0);
  EXPECT_TRUE(support::eventually([&] { return !opens(one); }));

  // The database has neither the plan nor its secrets to read.
  const std::string dump =
      ask("SELECT string_agg(encode(sealed, 'escape'), ' ') FROM jembatan.plan_change").out +
      ask("SELECT string_agg(plan_member::text, ' ') FROM jembatan.plan_member").out;
  for (const char* hidden : {"laut", "ombak", "[[client]]", "127.0.0.1"})
    EXPECT_THAT(dump, Not(HasSubstr(hidden)));
}

TEST_F(SharedPlan, StaysInForceWithoutTheDatabaseAndThroughKillsAndIsChangedWhenItIsBack) {
  ASSERT_EQ(apply(one, kHere), 0);
  other.start();
  ASSERT_EQ(on(one, way_in(other)).exit_code, 0);
  ASSERT_TRUE(has_revision(other, 1)) << other.log();
  database.stop();
  other.kill();
  other.start();
  EXPECT_EQ(sign_in(other), 0);
  EXPECT_TRUE(support::eventually([&] {
    return ready(other).find("the plan is not followed since") != std::string::npos;
  })) << ready(other);
  const auto refused = on(one, {"user", "set", "tamu@reef.example", "enabled=false"});
  EXPECT_NE(refused.exit_code, 0);
  EXPECT_THAT(refused.error, HasSubstr("nothing was changed"));
  EXPECT_EQ(revision(one), 1U);
  EXPECT_EQ(sign_in(one), 0);

  database.start(kAccess);
  EXPECT_TRUE(support::eventually([&] {
    return on(one, {"user", "set", "tamu@reef.example", "enabled=false"}).exit_code == 0;
  }));
  ASSERT_TRUE(has_revision(other, 2)) << other.log();
  EXPECT_NE(sign_in(other), 0);
  other.kill();
  EXPECT_EQ(on(one, {"user", "set", "tamu@reef.example", "enabled=true"}).exit_code, 0);
  other.start();
  ASSERT_TRUE(has_revision(other, 3)) << "what was changed while it was down";
  EXPECT_TRUE(support::eventually([&] { return ready(other) == "200 ready\n"; })) << ready(other);
  EXPECT_EQ(other.stop(), 0);
  EXPECT_EQ(one.stop(), 0) << one.log();
}

// As when the node that begins it is killed before the database has it, and when the database comes out of an
// older backup.
TEST_F(SharedPlan, IsBegunAgainIfOnlyTheNodeKnowsOfIt) {
  ASSERT_EQ(apply(one, kHere), 0);
  one.kill();
  EXPECT_EQ(ask("DELETE FROM jembatan.plan").exit_code, 0);
  one.start();
  EXPECT_EQ(sign_in(one), 0);
  EXPECT_TRUE(support::eventually([&] { return ready(one) == "200 ready\n"; })) << ready(one);
  other.start();
  ASSERT_EQ(on(one, way_in(other)).exit_code, 0);
  ASSERT_TRUE(has_revision(other, 1)) << other.log();
  EXPECT_EQ(sign_in(other), 0);
}

// The database is lost; its standby has all of it and takes writes.
TEST_F(SharedPlan, GoesOnWithAStandbyThatHasTakenOver) {
  const auto standby = database.standby();
  for (TestNode* node : {&one, &other}) {
    if (node == &one) {
      EXPECT_EQ(one.stop(), 0);
    }
    const std::string text = support::read_file(node->file());
    const std::string alone = "127.0.0.1:" + std::to_string(database.port()) + "/ferries";
    const std::size_t at = text.find(alone);
    ASSERT_NE(at, std::string::npos);
    support::write_file(node->file(), text.substr(0, at) + "127.0.0.1:" + std::to_string(database.port()) +
                                          ",127.0.0.1:" + std::to_string(standby->port()) +
                                          "/ferries?target_session_attrs=read-write" +
                                          text.substr(at + alone.size()));
    node->start();
  }
  ASSERT_EQ(apply(one, kHere), 0);
  ASSERT_EQ(on(one, way_in(other)).exit_code, 0);
  ASSERT_TRUE(has_revision(other, 1)) << other.log();
  account(one, "s1");
  const auto on_standby = [&](const std::string& sql) {
    return standby->as("jembatan", kPassword, sql, "ferries").out;
  };
  ASSERT_TRUE(support::eventually([&] {
    return on_standby("SELECT count(*) FROM jembatan.record") == "1\n" &&
           on_standby("SELECT max(number) FROM jembatan.plan_change") ==
               ask("SELECT max(number) FROM jembatan.plan_change").out;
  }));
  database.stop();
  account(one, "s2");
  standby->promote();
  EXPECT_TRUE(support::eventually([&] {
    return on_standby("SELECT string_agg(session_id, ',' ORDER BY session_id) FROM jembatan.record") ==
           "s1,s2\n";
  })) << one.log();
  EXPECT_TRUE(support::eventually([&] {
    return on(one, {"user", "set", "tamu@reef.example", "enabled=false"}).exit_code == 0;
  })) << one.log();
  EXPECT_TRUE(has_revision(other, 2)) << other.log();
}

TEST_F(SharedPlan, ChangesAtBothNodesAtOnceAreOneBehindTheOtherOrRefused) {
  ASSERT_EQ(apply(one, kHere), 0);
  other.start();
  ASSERT_EQ(on(one, way_in(other)).exit_code, 0);
  ASSERT_TRUE(has_revision(other, 1)) << other.log();
  constexpr int kEach = 12;
  std::atomic<int> done{0};
  const auto change = [&](const TestNode& node, const std::string& who) {
    for (int i = 0; i < kEach; ++i) {
      const auto set =
          on(node, {"user", "set", "tamu@reef.example", "reply.Reply-Message=" + who + std::to_string(i)});
      if (set.exit_code == 0) ++done;
      if (set.exit_code != 0) {
        EXPECT_THAT(set.error, testing::AnyOf(HasSubstr("at the same time"), HasSubstr("has changed since")));
      }
    }
  };
  std::thread here([&] { change(one, "a"); });
  change(other, "b");
  here.join();
  const auto number = static_cast<std::uint64_t>(1 + done);
  EXPECT_GT(done, kEach / 2);
  EXPECT_TRUE(has_revision(one, number)) << revision(one) << " " << number;
  EXPECT_TRUE(has_revision(other, number)) << revision(other) << " " << number;
  EXPECT_EQ(one.ask_node({"plan", "history"}), other.ask_node({"plan", "history"}));
}

// Sessions are those of the plan's nodes: where one began does not matter.
TEST_F(SharedPlan, ItsNodesKnowEachOthersSessions) {
  ASSERT_EQ(apply(one, kHere + R"(
[[access]]
name = "one place"
when = 'sessions >= 1'
permit = false
message = "elsewhere already"
[[access]]
name = "everybody"
permit = true
)"),
            0);
  other.start();
  ASSERT_EQ(on(one, way_in(other)).exit_code, 0);
  ASSERT_TRUE(has_revision(other, 1)) << other.log();
  const auto tell = [](const TestNode& node, const std::string& status, const std::string& session) {
    const auto asked = client({"ask", "accounting", "--to", node.accounting_to(), "--secret", "laut",
                               "--status", status, "--session-id", session, "--user", "tamu@reef.example",
                               "Calling-Station-Id=02-00-00-00-00-01", "NAS-Identifier=deck"});
    EXPECT_EQ(asked.exit_code, 0) << asked.out << asked.error;
  };
  const auto let_in = [](const TestNode& node) {
    return client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                   "tamu@reef.example", "--password", "ombak-3", "Calling-Station-Id=02-00-00-00-00-02"})
               .exit_code == 0;
  };
  const auto open_at = [](const TestNode& node) {
    const auto body = node.ask_node({"session", "list"});
    return body.contains("sessions") ? body.at("sessions").size() : 99U;
  };
  tell(one, "Start", "s1");
  ASSERT_TRUE(support::eventually([&] { return open_at(other) == 1; })) << other.log();
  EXPECT_FALSE(let_in(other));
  const std::int64_t number = other.ask_node({"session", "list"}).at("sessions").at(0).at("number");
  EXPECT_GT(number, 1'000'000'000'000) << "no record of this node has it";
  EXPECT_THAT(on(other, {"session", "list"}).out, HasSubstr("\n1/1 "));
  EXPECT_THAT(on(other, {"session", "show", "1/1"}).out, HasSubstr("session 1/1  online"));
  EXPECT_THAT(on(other, {"session", "show", "1/x"}).error, HasSubstr("no number of a session"));
  const auto shown = on(other, {"session", "disconnect", "1/1"});
  EXPECT_THAT(shown.error + shown.out, HasSubstr("authorization_port"))
      << "its records are found where they are";

  other.kill();
  tell(one, "Stop", "s1");
  tell(one, "Start", "s2");
  other.start();
  ASSERT_TRUE(support::eventually([&] {
    const auto body = other.ask_node({"session", "list"});
    return body.contains("sessions") && body.at("sessions").size() == 1 &&
           body.at("sessions").at(0).at("session_id") == "s2";
  })) << other.log();
  EXPECT_FALSE(let_in(other));
  tell(other, "Stop", "s2");  // the device asks the other hub by now
  EXPECT_TRUE(support::eventually([&] { return open_at(one) == 0 && open_at(other) == 0; }));
  EXPECT_TRUE(let_in(one));
  EXPECT_EQ(records("hub-a s1,hub-a s1,hub-a s2,hub-b s2"), "hub-a s1,hub-a s1,hub-a s2,hub-b s2");
}

TEST_F(SharedPlan, IsNotMixedWithOneThatANodeHasOfItsOwn) {
  ASSERT_EQ(apply(one, kHere), 0);
  TestNode stranger("hub-c", "", TestNode::Plan::by_commands);
  stranger.start();
  ASSERT_EQ(apply(stranger, kHere), 0);
  EXPECT_EQ(stranger.stop(), 0);
  std::ofstream(stranger.file(), std::ios::app) << sharing();
  stranger.start();
  EXPECT_TRUE(stranger.log_has("move plan.sqlite out of its data folder"));
  EXPECT_EQ(sign_in(stranger), 0) << "its own stays in force";
  EXPECT_EQ(stranger.stop(), 0);
  std::filesystem::rename(stranger.path("data/plan.sqlite"), stranger.path("plan-before.sqlite"));
  stranger.start();
  EXPECT_EQ(on(one, way_in(stranger)).exit_code, 0);
  EXPECT_TRUE(has_revision(stranger, 1)) << stranger.log();
  const TestNode folder("folder", sharing());
  folder.plan(kHere);
  const auto refused = support::run({kServer, "--node", folder.file()});
  EXPECT_THAT(refused.out + refused.error, HasSubstr("a plan that is read from a folder cannot be shared"));
  EXPECT_EQ(on(stranger, {"user", "set", "tamu@reef.example", "enabled=false"}).exit_code, 0);
}

// The demo chain with a database of its own: made, stopped, started again with what it had, made anew.
TEST(LabWithADatabase, ItsNodesShareIt) {
  const support::TemporaryFolder folder;
  const std::filesystem::path lab = folder.path() / "lab";
  const std::vector<std::string> environment{"JEMBATAN_LAB=" + lab.string()};
  const auto run = [&](std::vector<std::string> words) { return client(std::move(words), environment); };
  const auto records_of = [&](const std::string& node) {
    const auto body =
        nlohmann::json::parse(run({"node", "list", "--lab", "hub", "--json"}).out, nullptr, false);
    if (!body.is_object()) return -1;
    for (const auto& row : body.at("nodes"))
      if (row.at("name") == node) return row.at("last_record").get<int>();
    return -1;
  };
  const auto up = run({"lab", "up", "--free-ports", "--shared"});
  ASSERT_EQ(up.exit_code, 0) << up.error;
  const auto asked = run({"ask", "accounting", "--lab", "edge", "--status", "Start", "--session-id", "s1",
                          "--user", "sari@reef.example"});
  EXPECT_EQ(asked.exit_code, 0) << asked.out;
  for (const char* node : {"edge", "reef-1"})
    EXPECT_TRUE(support::eventually([&] { return records_of(node) == 1; })) << node;
  EXPECT_TRUE(support::eventually([&] { return records_of("hub") + records_of("hub-2") == 1; }));
  EXPECT_EQ(records_of("reef-2"), 0);
  const auto set = run({"user", "set", "budi@harbour.example", "enabled=false", "--lab", "hub-2"});
  EXPECT_EQ(set.exit_code, 0) << set.error;
  EXPECT_TRUE(support::eventually([&] {
    return run({"plan", "history", "--lab", "hub"}).out == run({"plan", "history", "--lab", "hub-2"}).out;
  }));
  EXPECT_THAT(run({"plan", "history", "--lab", "hub"}).out, HasSubstr("user budi@harbour.example changed"));
  EXPECT_EQ(run({"lab", "down"}).exit_code, 0);
  EXPECT_EQ(run({"lab", "up"}).exit_code, 0);
  EXPECT_EQ(records_of("edge"), 1) << "it is still there";
  EXPECT_EQ(run({"plan", "history", "--lab", "hub"}).out, run({"plan", "history", "--lab", "hub-2"}).out);
  const std::string first = support::read_file(lab / "database");
  EXPECT_EQ(run({"lab", "up", "--fresh", "--free-ports"}).exit_code, 0);
  EXPECT_FALSE(std::filesystem::exists(first.substr(0, first.find('\n')))) << "removed with the lab";
  EXPECT_THAT(run({"lab", "up", "--shared"}).error, HasSubstr("made without --shared"));
  EXPECT_THAT(run({"node", "list", "--lab", "hub"}).error, HasSubstr("shares no database"));
  EXPECT_EQ(run({"lab", "down"}).exit_code, 0);
}

}  // namespace
}  // namespace jembatan::blackbox
