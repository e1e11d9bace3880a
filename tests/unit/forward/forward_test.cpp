#include <gtest/gtest.h>

#include <set>

#include "forward/choice.h"
#include "forward/forwarding.h"
#include "forward/identifiers.h"
#include "support/fakes.h"
#include "support/packets.h"

namespace jembatan::forward {
namespace {

using namespace std::chrono_literals;
using support::FakeClock;
using support::FixedRandom;
using Step = Forwarding::Step;

struct ServerWish {
  int priority = 1;
  int weight = 1;
};

// A group of servers named s0, s1, … with their healths.
struct Bench {
  explicit Bench(const std::vector<ServerWish>& servers) {
    std::string toml =
        "[[group]]\nname = \"g\"\nanswer_within = \"1s\"\nattempts = 2\ndown_after = 3\ntry_again_every = "
        "\"30s\"\n";
    for (std::size_t i = 0; i < servers.size(); ++i) {
      toml += "[[group.server]]\nname = \"s" + std::to_string(i) + "\"\naddress = \"198.51.100." +
              std::to_string(i + 1) +
              "\"\nsecret = \"x\"\npriority = " + std::to_string(servers[i].priority) +
              "\nweight = " + std::to_string(servers[i].weight) + "\n";
    }
    live = board.go_live(support::plan_of(toml), 1);
  }
  const plan::Group& group() const { return live->plan->groups[0]; }
  const std::vector<HealthPtr>& health() const { return live->health_of(0, Purpose::access); }
  void take_down(std::size_t server) {
    for (int i = 0; i < group().down_after; ++i) health()[server]->unanswered(group(), clock.now());
  }
  std::optional<std::size_t> choice(const Tried& tried = {}) {
    return choose(live->candidates(0, Purpose::access), tried, clock.now().steady);
  }

  HealthBoard board;
  LivePlanPtr live;
  FakeClock clock;
};

TEST(Choice, WeightsAreShares) {  // RFC 2782
  Bench bench({{1, 75}, {1, 25}});
  int first = 0;
  for (int i = 0; i < 10000; ++i) first += *bench.choice() == 0 ? 1 : 0;
  EXPECT_EQ(first, 7500);
}

TEST(Choice, WeightZeroGetsNothingWhileOthersHaveWeight) {
  Bench bench({{1, 0}, {1, 5}});
  for (int i = 0; i < 100; ++i) EXPECT_EQ(bench.choice(), 1U);
  Bench equal({{1, 0}, {1, 0}});
  int first = 0;
  for (int i = 0; i < 1000; ++i) first += *equal.choice() == 0 ? 1 : 0;
  EXPECT_EQ(first, 500);
}

TEST(Choice, EverythingGoesToTheFirstTierWhileOneServerInItIsUp) {
  Bench bench({{2, 100}, {1, 1}, {1, 1}});
  for (int i = 0; i < 100; ++i) EXPECT_NE(bench.choice(), 0U);
  bench.take_down(1);
  for (int i = 0; i < 100; ++i) EXPECT_EQ(bench.choice(), 2U);
  bench.take_down(2);
  EXPECT_EQ(bench.choice(), 0U);
}

TEST(Choice, WhenAllAreDownTheyAreAskedAllTheSame) {
  Bench bench({{1, 1}, {2, 1}});
  bench.take_down(0);
  bench.take_down(1);
  EXPECT_EQ(bench.choice(), 0U);
  EXPECT_EQ(bench.choice(Tried{1}), 1U);
  EXPECT_EQ(bench.choice(Tried{3}), std::nullopt);
}

TEST(Health, IsDownAfterSoManyUnansweredInARow) {
  Bench bench({{1, 1}});
  ServerHealth& health = *bench.health()[0];
  const auto silence = [&] { return health.unanswered(bench.group(), bench.clock.now()); };
  EXPECT_EQ(silence(), ServerHealth::Change::none);
  EXPECT_EQ(silence(), ServerHealth::Change::none);
  EXPECT_EQ(health.answered(bench.clock.now()), ServerHealth::Change::none);  // the count starts over
  EXPECT_EQ(silence(), ServerHealth::Change::none);
  EXPECT_EQ(silence(), ServerHealth::Change::none);
  EXPECT_EQ(silence(), ServerHealth::Change::went_down);
  EXPECT_EQ(silence(), ServerHealth::Change::none);
  EXPECT_TRUE(health.down());
  EXPECT_EQ(health.answered(bench.clock.now()), ServerHealth::Change::came_back);
  EXPECT_FALSE(health.down());
}

TEST(Health, ADownServerGetsOneRequestEachInterval) {
  Bench bench({{1, 1}, {1, 1}});
  bench.take_down(0);
  for (int i = 0; i < 50; ++i) EXPECT_EQ(bench.choice(), 1U);
  bench.clock.advance(31s);
  EXPECT_EQ(bench.choice(), 0U);
  for (int i = 0; i < 50; ++i) EXPECT_EQ(bench.choice(), 1U);
}

TEST(Health, OutlivesAChangeOfThePlanThatKeepsTheServer) {
  Bench bench({{1, 1}});
  bench.take_down(0);
  const auto next = bench.board.go_live(bench.live->plan, 2);
  EXPECT_EQ(next->revision, 2U);
  EXPECT_TRUE(next->health_of(0, Purpose::access)[0]->down());
  EXPECT_FALSE(next->health_of(0, Purpose::accounting)[0]->down());
}

TEST(Forwarding, ASilentServerIsAskedAgainThenTheNext) {
  Bench bench({{1, 1}, {2, 1}});
  Forwarding way;
  const auto silence = [&] {
    return way.on_silence(bench.live->candidates(0, Purpose::access), bench.clock.advance(1s).steady);
  };
  EXPECT_EQ(way.start(bench.live->candidates(0, Purpose::access), bench.clock.now().steady), Step::ask);
  EXPECT_EQ(way.server(), 0U);
  EXPECT_EQ(way.deadline(), bench.clock.now().steady + 1s);
  EXPECT_EQ(silence(), Step::ask_again);
  EXPECT_EQ(way.server(), 0U);
  EXPECT_EQ(silence(), Step::ask);
  EXPECT_EQ(way.server(), 1U);
  EXPECT_EQ(silence(), Step::ask_again);
  EXPECT_EQ(silence(), Step::give_up);
}

TEST(Forwarding, AServerThatHasGoneDownIsNotAskedAgain) {
  Bench bench({{1, 1}, {2, 1}});
  Forwarding way;
  (void)way.start(bench.live->candidates(0, Purpose::access), bench.clock.now().steady);
  bench.take_down(0);
  EXPECT_EQ(way.on_silence(bench.live->candidates(0, Purpose::access), bench.clock.advance(1s).steady),
            Step::ask);
  EXPECT_EQ(way.server(), 1U);
}

TEST(Identifiers, AreHandedOutInTurnAndRestAfterUse) {
  Identifiers ids;
  const Endpoint server = *Endpoint::parse("198.51.100.1", 1812);
  const auto first = ids.take(server, 1);
  EXPECT_EQ(ids.owner_of(server, *first), 1U);
  ids.release(server, *first);
  EXPECT_EQ(ids.owner_of(server, *first), std::nullopt);
  EXPECT_NE(ids.take(server, 2)->identifier, first->identifier);
}

TEST(Identifiers, OpenLanesAsNeededAndEndAtTheLast) {
  Identifiers ids;
  const Endpoint server = *Endpoint::parse("198.51.100.1", 1812);
  const Endpoint other = *Endpoint::parse("198.51.100.2", 1812);
  std::set<std::pair<int, int>> seen;
  for (std::uint32_t owner = 0; owner < Identifiers::kMostLanes * 256; ++owner) {
    const auto id = ids.take(server, owner);
    ASSERT_TRUE(id);
    EXPECT_TRUE(seen.emplace(id->lane, id->identifier).second);
    EXPECT_EQ(ids.owner_of(server, *id), owner);
  }
  EXPECT_EQ(ids.take(server, 1), std::nullopt);
  EXPECT_TRUE(ids.take(other, 1));  // each server has its own
  ids.release(server, {3, 200});
  const auto again = ids.take(server, 9);
  ASSERT_TRUE(again);
  EXPECT_EQ(std::pair(again->lane, again->identifier), std::pair(std::uint16_t{3}, std::uint8_t{200}));
}

}  // namespace
}  // namespace jembatan::forward
