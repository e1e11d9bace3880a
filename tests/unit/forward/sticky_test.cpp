#include "forward/sticky.h"

#include <gtest/gtest.h>

#include <map>

#include "base/text_hash.h"
#include "forward/live_plan.h"
#include "support/fakes.h"
#include "support/packets.h"

namespace jembatan::forward {
namespace {

using namespace std::chrono_literals;
using plan::Sticky;

constexpr const char* kThree = R"(
[[group]]
name = "homes"
down_after = 1
sticky = "user"
[[group.server]]
name = "one"
address = "198.51.100.1"
secret = "x"
weight = 50
[[group.server]]
name = "two"
address = "198.51.100.2"
secret = "x"
weight = 30
[[group.server]]
name = "three"
address = "198.51.100.3"
secret = "x"
weight = 20
)";

class StickyGroup : public testing::Test {
 protected:
  std::map<std::string, std::size_t> places_of(int users) const {
    std::map<std::string, std::size_t> out;
    for (int i = 0; i < users; ++i) {
      const std::string user = "user-" + std::to_string(i) + "@reef.example";
      Asker asker;
      asker.sticks = tie_of(Sticky::user, {user, {}, {}, {}});
      out[user] = *choose(live->candidates(0, Purpose::access), asker, {}, clock.now().steady);
    }
    return out;
  }
  support::FakeClock clock;
  HealthBoard board;
  LivePlanPtr live = board.go_live(support::plan_of(kThree), 1);
};

TEST_F(StickyGroup, EachUserHasAServerAndTheSharesAreTheWeights) {
  const auto places = places_of(10000);
  EXPECT_EQ(places, places_of(10000));
  std::array<int, 3> counts{};
  for (const auto& [user, place] : places) ++counts[place];
  EXPECT_NEAR(counts[0], 5000, 150);  // three standard deviations
  EXPECT_NEAR(counts[1], 3000, 138);
  EXPECT_NEAR(counts[2], 2000, 120);
}

TEST_F(StickyGroup, TheLossOfAServerMovesItsUsersAlone) {
  const auto before = places_of(5000);
  live->health_of(0, Purpose::access)[1]->unanswered(live->plan->groups[0], 1, clock.now());
  const auto after = places_of(5000);
  int moved = 0;
  int to_the_first = 0;
  for (const auto& [user, place] : before) {
    if (place != 1) {
      EXPECT_EQ(after.at(user), place);
    } else {
      ++moved;
      to_the_first += after.at(user) == 0 ? 1 : 0;
    }
  }
  EXPECT_NEAR(static_cast<double>(to_the_first) / moved, 5.0 / 7, 0.05);  // by the weights of the others
  live->health_of(0, Purpose::access)[1]->answered(clock.now());
  EXPECT_EQ(places_of(5000), before);
}

TEST(Tie, IsTheSameHoweverNamesAreWritten) {
  const auto user = [](std::string_view name) { return tie_of(Sticky::user, {name, "s", "c", "1"}); };
  EXPECT_EQ(user("Sari@Reef.example"), user("sari@reef.example"));
  EXPECT_NE(user("sari@reef.example"), user("rani@reef.example"));
  const auto station = [](std::string_view name) { return tie_of(Sticky::station, {"u", name, "c", "1"}); };
  EXPECT_EQ(station("02-00-5E-10-00-01"), station("0200.5e10.0001"));
  EXPECT_NE(station("02-00-5E-10-00-01"), station("02-00-5E-10-00-02"));
}

TEST(Tie, OfWhatIsMissingTheNextCounts) {
  const Ties all{"user", "02005e", "client", "1"};
  EXPECT_EQ(tie_of(Sticky::no, all), 0U);
  EXPECT_EQ(tie_of(Sticky::session, {"user", "02005e", "client", ""}), tie_of(Sticky::station, all));
  EXPECT_EQ(tie_of(Sticky::session, {"user", "", "client", ""}), tie_of(Sticky::user, all));
  EXPECT_EQ(tie_of(Sticky::session, {"", "", "client", ""}), 0U);
  EXPECT_NE(tie_of(Sticky::session, all), tie_of(Sticky::session, {"user", "02005e", "other", "1"}));
}

}  // namespace
}  // namespace jembatan::forward
