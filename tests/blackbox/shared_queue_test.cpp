// Nodes with one plan: what waits at one that is gone is sent by another, once.
#include <thread>

#include "blackbox/shared_nodes.h"

namespace jembatan::blackbox {
namespace {

using testing::HasSubstr;

class SharedQueue : public SharedPlan {
 protected:
  SharedQueue() { home.plan(kHere); }
  void begin(const std::string& accounting) {
    ASSERT_EQ(apply(one, client_here("laut") +
                             "[[realm]]\nname = \"reef.example\"\nhandle = \"here\"\naccounting = " +
                             accounting + "\n" + group_to("homes", home, "laut")),
              0);
    other.start();
    ASSERT_EQ(on(one, way_in(other)).exit_code, 0);
    ASSERT_TRUE(has_revision(other, 1)) << other.log();
  }
  bool waiting(int number) const {
    return support::eventually([&] {
      return std::atoi(ask("SELECT count(*) FROM jembatan.waiting WHERE taken IS NULL").out.c_str()) ==
             number;
    });
  }
  bool home_has(std::size_t number) const {
    return support::eventually([&] { return sessions_at_home().size() == number; });
  }
  std::vector<std::string> sessions_at_home() const {
    std::vector<std::string> out;
    const auto body = home.ask_node({"accounting", "search", "--most", "500"});
    if (body.contains("records"))
      for (const auto& row : body.at("records")) out.push_back(row.at("session_id"));
    return out;
  }
  // How many records the group has acknowledged to a node since its start.
  static int acknowledged(const TestNode& node) {
    const auto body = node.ask_node({"accounting", "queue"});
    return body.contains("queue") && !body.at("queue").empty()
               ? body.at("queue").at(0).at("acknowledged").get<int>()
               : 0;
  }
  TestNode home{"home"};
};

TEST_F(SharedQueue, OfANodeThatIsGoneIsSentByAnotherAndNotAgainWhenItIsBack) {
  begin("[\"here\", \"group:homes\"]");
  for (int i = 0; i < 12; ++i) account(one, "s" + std::to_string(i));
  ASSERT_TRUE(waiting(12)) << one.log();
  EXPECT_THAT(on(other, {"node", "list"}).out, HasSubstr("12"));
  one.kill();
  home.start();
  ASSERT_TRUE(home_has(12)) << other.log();
  EXPECT_TRUE(
      other.log_has("shared queue: node hub-a has not been seen for 5 s: 12 records that waited there for "
                    "homes will be sent from here"));
  EXPECT_TRUE(support::eventually([&] { return acknowledged(other) == 12; }));

  one.start();
  EXPECT_TRUE(one.log_has("shared queue: node hub-b has taken over 12 records of the queues here"));
  account(one, "s12");
  ASSERT_TRUE(home_has(13)) << "it sends what is new";
  EXPECT_TRUE(support::eventually([&] { return acknowledged(one) >= 1; }));
  EXPECT_EQ(acknowledged(one), 1) << "and nothing of before";
  EXPECT_EQ(acknowledged(other), 12);
  const auto shown = on(one, {"accounting", "show", "1"});
  EXPECT_THAT(shown.out, HasSubstr("homes: node hub-b has taken it over"));
  EXPECT_EQ(ask("SELECT count(*) FROM jembatan.waiting").out, "0\n");
  // Counted once: a session has one record, at the node that received it.
  EXPECT_EQ(other.ask_node({"session", "list", "--most", "500"}).at("sessions").size(), 13U);
}

// Each of them goes in turn, while the servers are silent: in the end it is sent all the same.
TEST_F(SharedQueue, GoesToAndFro) {
  begin("[\"group:homes\"]");
  account(one, "s1");
  ASSERT_TRUE(waiting(1)) << one.log();
  one.kill();
  ASSERT_TRUE(other.log_has("1 record that waited there for homes will be sent from here"));
  one.start();
  ASSERT_TRUE(one.log_has("node hub-b has taken over 1 record of the queues here"));
  account(one, "s2");  // behind the other, and before it comes back
  ASSERT_TRUE(waiting(2)) << other.log();
  other.kill();
  ASSERT_TRUE(one.log_has("node hub-b has not been seen for 5 s: 1 record"));
  home.start();
  ASSERT_TRUE(home_has(2)) << one.log();
}

TEST_F(SharedQueue, OfRecordsThatAreOnlyPassedOnIsTakenOverToo) {
  begin("[\"group:homes\"]");
  for (int i = 0; i < 3; ++i) account(one, "s" + std::to_string(i));
  ASSERT_TRUE(waiting(3)) << one.log();
  EXPECT_EQ(one.stop(), 0);  // in order: it is gone for long all the same
  home.start();
  ASSERT_TRUE(home_has(3)) << other.log();
  EXPECT_EQ(ask("SELECT count(*) FROM jembatan.record JOIN jembatan.node ON node.number = record.node "
                "WHERE name LIKE 'hub%'")
                .out,
            "0\n");
}

TEST_F(SharedQueue, WithoutTheDatabaseEachSendsItsOwn) {
  begin("[\"here\", \"group:homes\"]");
  account(one, "s1");
  ASSERT_TRUE(waiting(1)) << one.log();
  one.kill();
  database.stop();
  one.start();
  home.start();
  ASSERT_TRUE(home_has(1)) << one.log();
  database.start(kAccess);
  EXPECT_TRUE(waiting(0)) << "what was sent meanwhile waits no more";
  account(one, "s2");
  ASSERT_TRUE(home_has(2));
}

TEST_F(SharedQueue, OfBothNodesIsThereWhenBothWereKilled) {
  begin("[\"here\", \"group:homes\"]");
  for (int i = 0; i < 4; ++i) account(i % 2 == 0 ? one : other, "s" + std::to_string(i));
  ASSERT_TRUE(waiting(4)) << one.log();
  one.kill();
  other.kill();
  home.start();
  one.start();
  other.start();
  ASSERT_TRUE(home_has(4)) << one.log();
  EXPECT_TRUE(support::eventually([&] { return acknowledged(one) + acknowledged(other) == 4; }));
  ASSERT_TRUE(waiting(0));
}

// Nobody is seen while the database is away: that is no reason to take anything over.
TEST_F(SharedQueue, OfANodeThatIsThereStaysItsOwnWhenTheDatabaseComesBack) {
  begin("[\"here\", \"group:homes\"]");
  account(one, "s1");
  ASSERT_TRUE(waiting(1)) << one.log();
  database.stop();
  std::this_thread::sleep_for(std::chrono::seconds(6));  // longer than take_over_after
  database.start(kAccess);
  for (TestNode* node : {&one, &other})
    EXPECT_TRUE(support::eventually([&] { return ready(*node) == "200 ready\n"; })) << ready(*node);
  home.start();
  ASSERT_TRUE(home_has(1)) << one.log();
  EXPECT_TRUE(support::eventually([&] { return acknowledged(one) == 1; }));
  EXPECT_EQ(acknowledged(other), 0);
  EXPECT_THAT(other.log(), testing::Not(HasSubstr("has not been seen")));
}

TEST_F(SharedQueue, WhatIsSentElsewhereOrDroppedIsNotTakenOver) {
  begin("[\"here\", \"group:homes\"]");
  account(one, "s1");
  account(one, "s2");
  ASSERT_TRUE(waiting(2)) << one.log();
  EXPECT_EQ(on(one, {"accounting", "drop", "homes"}).exit_code, 0);
  ASSERT_TRUE(waiting(0));
  account(one, "s3");
  ASSERT_TRUE(waiting(1)) << one.log();
  one.kill();
  home.start();
  ASSERT_TRUE(home_has(1)) << other.log();
  EXPECT_EQ(sessions_at_home().front(), "s3");
}

}  // namespace
}  // namespace jembatan::blackbox
