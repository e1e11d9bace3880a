#include <gtest/gtest.h>

#include <set>

#include "forward/choice.h"
#include "forward/forwarding.h"
#include "forward/identifiers.h"
#include "forward/live_plan.h"
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
  explicit Bench(const std::vector<ServerWish>& servers, const std::string& more = "") {
    std::string toml =
        "[[group]]\nname = \"g\"\nanswer_within = \"1s\"\nattempts = 2\ndown_after = 3\ntry_again_every = "
        "\"30s\"\n" +
        more;
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
    for (int i = 0; i < group().down_after; ++i)
      health()[server]->unanswered(group(), static_cast<Path>(i + 1), clock.now());
  }
  std::optional<std::size_t> choice(const Tried& tried = {}, const Asker& asker = {}) {
    return choose(live->candidates(0, Purpose::access), asker, tried, clock.now().steady);
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
  Path user = 0;
  const auto silence = [&] { return health.unanswered(bench.group(), ++user, bench.clock.now()); };
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

TEST(Health, OneDeadUserPathTakesNoServerDown) {
  Bench bench({{1, 1}});
  ServerHealth& health = *bench.health()[0];
  const auto silence = [&](Path user) { return health.unanswered(bench.group(), user, bench.clock.now()); };
  for (int i = 0; i < 50; ++i) EXPECT_EQ(silence(7), ServerHealth::Change::none);
  EXPECT_EQ(silence(8), ServerHealth::Change::none);
  EXPECT_EQ(health.state(), ServerHealth::State::doubted);
  EXPECT_EQ(health.why(bench.group(), bench.clock.now()),
            "51 attempts in a row unanswered, all of 2 users: what lies behind it may be dead for them");
  EXPECT_EQ(silence(9), ServerHealth::Change::went_down);
}

TEST(Health, RequestsOfNobodyInParticularCountEachForItself) {
  Bench bench({{1, 1}});
  ServerHealth& health = *bench.health()[0];
  EXPECT_EQ(health.unanswered(bench.group(), 0, bench.clock.now()), ServerHealth::Change::none);
  EXPECT_EQ(health.unanswered(bench.group(), 0, bench.clock.now()), ServerHealth::Change::none);
  EXPECT_EQ(health.unanswered(bench.group(), 0, bench.clock.now()), ServerHealth::Change::went_down);
}

TEST(Health, WithAProbeOnlyItsSilenceTakesAServerDown) {
  Bench bench({{1, 1}, {1, 1}}, "probe = \"status-server\"\n");
  ServerHealth& health = *bench.health()[0];
  for (Path user = 1; user < 20; ++user)
    EXPECT_EQ(health.unanswered(bench.group(), user, bench.clock.now()), ServerHealth::Change::none);
  EXPECT_FALSE(health.down());
  for (int i = 0; i < 20; ++i) EXPECT_EQ(bench.choice(), 1U);                 // until the probe has told
  EXPECT_EQ(health.answered(bench.clock.now()), ServerHealth::Change::none);  // the probe was answered
  EXPECT_EQ(health.state(), ServerHealth::State::up);
  for (Path user = 1; user < 3; ++user) health.unanswered(bench.group(), user, bench.clock.now());
  EXPECT_EQ(health.probe_unanswered(bench.group(), bench.clock.now()), ServerHealth::Change::went_down);
  bench.clock.advance(300s);
  for (int i = 0; i < 20; ++i) EXPECT_EQ(bench.choice(), 1U);  // nobody's request is the trial
  EXPECT_EQ(health.why(bench.group(), bench.clock.now()), "3 attempts in a row unanswered, probed every 30s");
}

TEST(Health, IsOneForAllGroupsOfAnEndpoint) {
  FakeClock clock;
  HealthBoard board;
  std::string toml;
  for (const char* group : {"near", "far"})
    toml += "[[group]]\nname = \"" + std::string(group) +
            "\"\ndown_after = 1\n[[group.server]]\nname = \"one\"\naddress = \"198.51.100.1\"\nsecret = "
            "\"x\"\n";
  const auto live = board.go_live(support::plan_of(toml), 1);
  live->health_of(0, Purpose::access)[0]->unanswered(live->plan->groups[0], 1, clock.now());
  EXPECT_TRUE(live->health_of(1, Purpose::access)[0]->down());
  EXPECT_FALSE(live->health_of(1, Purpose::accounting)[0]->down());
  ++live->chosen_count(0, Purpose::access, 0);  // shares are of each group
  EXPECT_EQ(live->chosen_count(1, Purpose::access, 0), 0U);
}

TEST(Health, RemembersTheLastAttempts) {
  Bench bench({{1, 1}});
  ServerHealth& health = *bench.health()[0];
  EXPECT_EQ(health.recent().attempts, 0);
  EXPECT_FALSE(health.last_answer());
  for (int i = 0; i < 3; ++i) health.answered(bench.clock.now(), 5ms);
  health.unanswered(bench.group(), 1, bench.clock.now());
  EXPECT_EQ(health.recent().attempts, 4);
  EXPECT_EQ(health.recent().answered, 3);
  EXPECT_EQ(health.last_answer(), bench.clock.now().wall);
  for (int i = 0; i < 100; ++i) health.answered(bench.clock.now());
  EXPECT_EQ(health.recent().attempts, ServerHealth::kWindow);
  EXPECT_EQ(health.recent().answered, ServerHealth::kWindow);
}

TEST(Health, AServerThatIsBackGetsToItsShareByAndBy) {
  Bench bench({{1, 1}, {1, 1}}, "warm_up = \"100s\"\n");
  bench.take_down(0);
  bench.health()[0]->answered(bench.clock.now());
  const auto share = [&] {
    int first = 0;
    for (int i = 0; i < 1000; ++i) first += bench.choice() == 0U ? 1 : 0;
    return first;
  };
  EXPECT_NEAR(share(), 25, 2);  // a twentieth of its half
  bench.clock.advance(50s);
  EXPECT_NEAR(share(), 250, 2);
  bench.clock.advance(50s);
  EXPECT_EQ(share(), 500);
}

TEST(Health, ADownServerGetsOneRequestEachInterval) {
  Bench bench({{1, 1}, {1, 1}});
  bench.take_down(0);
  for (int i = 0; i < 50; ++i) EXPECT_EQ(bench.choice(), 1U);
  bench.clock.advance(31s);
  EXPECT_EQ(bench.choice(), 0U);
  for (int i = 0; i < 50; ++i) EXPECT_EQ(bench.choice(), 1U);
}

TEST(Choice, AChangeOfHealthIsSeenByTheNextRequest) {
  Bench bench({{1, 1}, {1, 1}, {2, 1}});
  for (int i = 0; i < 10; ++i) EXPECT_LT(*bench.choice(), 2U);
  bench.take_down(0);
  for (int i = 0; i < 10; ++i) EXPECT_EQ(bench.choice(), 1U);
  bench.take_down(1);
  for (int i = 0; i < 10; ++i) EXPECT_EQ(bench.choice(), 2U);
  bench.clock.advance(31s);
  EXPECT_EQ(bench.choice(), 0U);  // its trial
  bench.health()[1]->answered(bench.clock.now());
  for (int i = 0; i < 10; ++i) EXPECT_EQ(bench.choice(), 1U);
  bench.health()[0]->answered(bench.clock.now());
  int first = 0;
  for (int i = 0; i < 10; ++i) first += bench.choice() == 0U ? 1 : 0;
  EXPECT_EQ(first, 5);
}

TEST(Choice, NextsOfManySetsOfMembersStayEven) {  // more sets than are remembered
  Bench bench(std::vector<ServerWish>(20, {1, 1}));
  for (std::size_t gone = 0; gone < 20; ++gone) {
    bench.take_down(gone);
    for (int i = 0; i < 19; ++i) EXPECT_NE(bench.choice(), gone);
    bench.health()[gone]->answered(bench.clock.now());
    std::vector<int> had(20);
    for (int i = 0; i < 40; ++i) ++had[*bench.choice()];
    for (const int count : had) EXPECT_NEAR(count, 2, 1);
  }
}

TEST(Health, OutlivesAChangeOfThePlanThatKeepsTheServer) {
  Bench bench({{1, 1}});
  bench.take_down(0);
  const auto next = bench.board.go_live(bench.live->plan, 2);
  EXPECT_EQ(next->revision, 2U);
  EXPECT_TRUE(next->health_of(0, Purpose::access)[0]->down());
  EXPECT_FALSE(next->health_of(0, Purpose::accounting)[0]->down());
}

// One request; chance decides nothing: 2^31 is the middle.
class Way : public testing::Test {
 protected:
  static constexpr std::uint32_t kMiddle = 1U << 31U;
  Candidates candidates() const { return bench.live->candidates(0, Purpose::access); }
  Step start(const Asker& asker = {}, TimePoint until = TimePoint::max()) {
    return way.start(candidates(), asker, until, {bench.clock.now().steady, kMiddle});
  }
  Step silence() {
    bench.clock.advance(
        std::chrono::ceil<std::chrono::milliseconds>(way.deadline() - bench.clock.now().steady));
    return way.on_silence(candidates(), {bench.clock.now().steady, kMiddle});
  }
  Bench bench{{{1, 1}, {2, 1}}};
  Forwarding way;
};

TEST_F(Way, ASilentServerIsAskedAgainThenTheNext) {
  EXPECT_EQ(start(), Step::ask);
  EXPECT_EQ(way.server(), 0U);
  EXPECT_EQ(way.deadline(), bench.clock.now().steady + 1s);
  EXPECT_EQ(silence(), Step::ask_again);
  EXPECT_EQ(way.server(), 0U);
  EXPECT_EQ(way.deadline(), bench.clock.now().steady + 2s);  // RFC 5080 §2.2.1: twice as long
  EXPECT_EQ(silence(), Step::ask);
  EXPECT_EQ(way.server(), 1U);
  EXPECT_EQ(way.deadline(), bench.clock.now().steady + 1s);
  EXPECT_EQ(silence(), Step::ask_again);
  EXPECT_EQ(silence(), Step::give_up);
  EXPECT_FALSE(way.cut_short());
}

TEST_F(Way, WaitsDifferByATenth) {
  const TimePoint now = bench.clock.now().steady;
  (void)way.start(candidates(), {}, TimePoint::max(), {now, 0});
  EXPECT_EQ(way.deadline(), now + 900ms);
  (void)way.start(candidates(), {}, TimePoint::max(), {now, ~0U});
  EXPECT_NEAR(std::chrono::duration<double>(way.deadline() - now).count(), 1.1, 1e-6);
}

TEST_F(Way, AServerThatHasGoneDownIsNotAskedAgain) {
  (void)start();
  bench.take_down(0);
  EXPECT_EQ(silence(), Step::ask);
  EXPECT_EQ(way.server(), 1U);
}

TEST_F(Way, EndsWhenItsTimeIsOver) {
  EXPECT_EQ(start({}, bench.clock.now().steady + 1500ms), Step::ask);
  EXPECT_FALSE(way.cut_short());
  EXPECT_EQ(silence(), Step::ask_again);
  EXPECT_EQ(way.deadline(), bench.clock.now().steady + 500ms);
  EXPECT_TRUE(way.cut_short());  // its silence says nothing of the server
  EXPECT_EQ(silence(), Step::give_up);
}

TEST_F(Way, AConversationStaysWhereItBegan) {
  Asker asker;
  asker.began_at = 1;  // though the first tier is up
  EXPECT_EQ(start(asker), Step::ask);
  EXPECT_EQ(way.server(), 1U);
  for (int attempt = 2; attempt <= 4; ++attempt) {  // with the patience that two servers would have had
    EXPECT_EQ(silence(), Step::ask_again) << attempt;
    EXPECT_EQ(way.server(), 1U);
  }
  EXPECT_EQ(silence(), Step::give_up);
  (void)start(asker);
  bench.take_down(1);
  EXPECT_EQ(silence(), Step::give_up);  // nobody will answer
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
