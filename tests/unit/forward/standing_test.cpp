#include "forward/standing.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/fakes.h"
#include "support/packets.h"

namespace jembatan::forward {
namespace {

using namespace std::chrono_literals;

constexpr const char* kPlan = R"(
[[group]]
name = "homes"
down_after = 3
try_again_every = "30s"
[[group.server]]
name = "one"
address = "198.51.100.1"
secret = "x"
weight = 75
[[group.server]]
name = "two"
address = "198.51.100.2"
secret = "x"
weight = 25
[[group.server]]
name = "far"
address = "198.51.100.3"
secret = "x"
priority = 2
[[group]]
name = "records"
[[group.server]]
name = "keeper"
address = "198.51.100.4"
secret = "x"
[[group]]
name = "nobody"
[[group.server]]
name = "idle"
address = "198.51.100.5"
secret = "x"
[[realm]]
name = "reef.example"
handle = "group:homes"
accounting = ["here", "group:records"]
)";

class Standings : public testing::Test {
 protected:
  std::vector<Standing> all() const { return standings(*live, clock.now()); }
  ServerHealth& health(std::size_t server) const { return *live->health_of(0, Purpose::access)[server]; }
  void silent(std::size_t server, int times) const {
    for (int i = 0; i < times; ++i) health(server).unanswered(live->plan->groups[0], 0, clock.now());
  }
  support::FakeClock clock;
  HealthBoard board;
  LivePlanPtr live = board.go_live(support::plan_of(kPlan), 1);
};

TEST_F(Standings, AreOfWhatThePlanUsesServersFor) {
  std::vector<std::string> names;
  for (const Standing& one : all())
    names.push_back(one.server->name + " " + std::string(name_of(one.purpose)));
  EXPECT_THAT(names, testing::ElementsAre("one access", "two access", "far access", "keeper accounting"));
}

TEST_F(Standings, AccountingOfOtherRealmsMayGoElsewhere) {
  const auto names = [&](const std::string& accounting) {
    live = board.go_live(
        support::plan_of("[realm_default]\nunknown = \"group:homes\"\n" + accounting + std::string(kPlan)),
        2);
    std::string out;
    for (const Standing& one : all())
      if (one.group->name == "homes") out += std::string(name_of(one.purpose)) + " ";
    return out;
  };
  EXPECT_EQ(names(""), "access access access accounting accounting accounting ");
  EXPECT_EQ(names("accounting = \"here\"\n"), "access access access ");
}

TEST_F(Standings, SharesAreToldBesideWhatTheyShouldBe) {
  for (int i = 0; i < 8; ++i)
    ++live->chosen_count(0, Purpose::access,
                         *choose(live->candidates(0, Purpose::access), {}, {}, clock.now().steady));
  auto now = all();
  EXPECT_EQ(now[0].requests, 6U);
  EXPECT_DOUBLE_EQ(now[0].share, 0.75);
  EXPECT_DOUBLE_EQ(now[0].wanted, 0.75);
  EXPECT_DOUBLE_EQ(now[1].share, 0.25);
  EXPECT_DOUBLE_EQ(now[2].wanted, 0);
  EXPECT_DOUBLE_EQ(now[3].wanted, 1);
  EXPECT_DOUBLE_EQ(now[3].share, 0);
  silent(0, 3);
  EXPECT_DOUBLE_EQ(all()[0].wanted, 0);
  EXPECT_DOUBLE_EQ(all()[1].wanted, 1);
  silent(1, 3);
  EXPECT_DOUBLE_EQ(all()[2].wanted, 1);
  silent(2, 3);  // all are down: the first ones are asked all the same
  EXPECT_DOUBLE_EQ(all()[0].wanted, 0.75);
}

TEST_F(Standings, StatesHaveTheirReasonAndTime) {
  EXPECT_EQ(name_of(all()[0].state), "up");
  EXPECT_FALSE(all()[0].since);
  EXPECT_EQ(all()[0].why, "");
  silent(0, 1);
  EXPECT_EQ(name_of(all()[0].state), "doubted");
  EXPECT_EQ(all()[0].why, "1 attempt in a row unanswered");
  const WallTime down_at = clock.advance(5s).wall;
  silent(0, 2);
  clock.advance(10s);
  EXPECT_EQ(name_of(all()[0].state), "down");
  EXPECT_EQ(all()[0].since, down_at);
  EXPECT_EQ(all()[0].why, "3 attempts in a row unanswered, tried again in 20s");
  const WallTime up_at = clock.advance(30s).wall;
  EXPECT_EQ(health(0).answered(clock.now()), ServerHealth::Change::came_back);
  EXPECT_EQ(name_of(all()[0].state), "up");
  EXPECT_EQ(all()[0].since, up_at);
  EXPECT_EQ(all()[0].answers, 1U);
  silent(0, 1);  // since when that is, nobody noted
  EXPECT_EQ(name_of(all()[0].state), "doubted");
  EXPECT_FALSE(all()[0].since);
}

TEST_F(Standings, OfOneThatWarmsUpTheOthersHaveTheRest) {
  live = board.go_live(
      support::plan_of("[[group]]\nname = \"homes\"\ndown_after = 1\nwarm_up = \"100s\"\n" +
                       std::string(kPlan).substr(std::string_view(kPlan).find("[[group.server"))),
      2);
  silent(0, 1);
  health(0).answered(clock.now());
  clock.advance(50s);
  EXPECT_NEAR(all()[0].wanted, 0.375, 1e-9);
  EXPECT_NEAR(all()[1].wanted, 0.625, 1e-9);
  clock.advance(50s);
  EXPECT_NEAR(all()[0].wanted, 0.75, 1e-9);
}

TEST_F(Standings, AnswerTimesAreOfTheLastMinutes) {
  EXPECT_FALSE(all()[0].median);
  for (int i = 0; i < 98; ++i) health(0).answered(clock.now(), 10ms);
  for (int i = 0; i < 2; ++i) health(0).answered(clock.now(), 900ms);
  const auto near = [](std::chrono::microseconds time) {
    return std::chrono::duration<double, std::milli>(time);
  };
  EXPECT_NEAR(near(*all()[0].median).count(), 10, 1.25);
  EXPECT_NEAR(near(*all()[0].p99).count(), 900, 112);
  clock.advance(60s);
  EXPECT_TRUE(all()[0].median);
  health(0).answered(clock.now(), 40ms);
  EXPECT_NEAR(near(*all()[0].median).count(), 10, 1.25);
  clock.advance(60s);
  health(0).answered(clock.now(), 40ms);
  EXPECT_NEAR(near(*all()[0].median).count(), 40, 5);
  clock.advance(600s);
  EXPECT_FALSE(all()[0].median);
  health(0).answered(clock.now(), 1us);
  EXPECT_LE(*all()[0].p99, 2us);
}

}  // namespace
}  // namespace jembatan::forward
