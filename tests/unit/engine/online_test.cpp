#include "engine/online.h"

#include <gtest/gtest.h>

#include <thread>

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using accounting::Session;

const WallTime kNow{std::chrono::seconds(1'790'000'000)};

Session session(std::int64_t id, std::string station, std::string user = "sari@reef.example") {
  Session one;
  one.id = id;
  one.user = std::move(user);
  one.realm = "reef.example";
  one.calling_station = std::move(station);
  one.nas = "deck-1";
  return one;
}
Session ended(Session one) {
  one.ended = kNow;
  return one;
}

class OnlineTest : public testing::Test {
 protected:
  std::size_t count(std::string_view place, std::string_view user = "sari@reef.example",
                    WallTime at = kNow) const {
    return online.count(user, place, at);
  }
  std::size_t enter(std::string_view place, WallTime at = kNow) {
    return online.enter("sari@reef.example", place, at);
  }
  Online online;
};

TEST_F(OnlineTest, CountsTheSessionsAtOtherPlaces) {
  online.follow(session(1, "02-AA"));
  online.follow(session(2, "02-bb"));
  EXPECT_EQ(count("02-cc"), 2U);
  EXPECT_EQ(count("02-aa"), 1U);  // who signs in again where they are is not elsewhere
  EXPECT_EQ(count(""), 2U);
  EXPECT_EQ(count("02-cc", "SARI@reef.example"), 2U);
  EXPECT_EQ(count("02-cc", "wulan@reef.example"), 0U);
  online.follow(ended(session(1, "02-AA")));
  EXPECT_EQ(count("02-cc"), 1U);
  online.follow(session(1, "02-AA"));  // open again
  EXPECT_EQ(count("02-cc"), 2U);
  online.follow(session(1, "02-AA"));
  EXPECT_EQ(count("02-cc"), 2U);
}

TEST_F(OnlineTest, NamesOfEveryFormAreOneUser) {
  online.follow(session(1, "02-aa", "sari"));
  online.follow(session(2, "02-bb", "REEF\\Sari"));
  online.follow(session(3, "02-cc", "sari@reef-alias.example"));
  EXPECT_EQ(count("02-dd"), 3U);
  for (int i = 1; i <= 3; ++i)
    online.follow(ended(session(i, "", i == 1 ? "sari" : i == 2 ? "REEF\\sari" : "sari@x")));
  EXPECT_EQ(online.users(), 0U);
}

TEST_F(OnlineTest, WhoWasLetInCountsUntilTheSessionBeginsOrItTakesTooLong) {
  EXPECT_EQ(enter("a"), 0U);
  EXPECT_EQ(enter("b"), 1U);
  EXPECT_EQ(enter("a"), 1U);  // again at the same place
  EXPECT_EQ(count("c"), 2U);
  online.follow(session(1, "a"));
  EXPECT_EQ(count("c"), 2U);
  EXPECT_EQ(count("c", "sari@reef.example", kNow + 61s), 1U);
  online.follow(ended(session(1, "a")));
  EXPECT_EQ(count("c", "sari@reef.example", kNow + 61s), 0U);
  EXPECT_EQ(enter("d", kNow + 62s), 0U);
  EXPECT_EQ(count("c", "sari@reef.example", kNow + 62s), 1U);
}

TEST_F(OnlineTest, WhoIsNotLetInHoldsNothing) {
  EXPECT_EQ(enter("a"), 0U);
  EXPECT_EQ(enter("b"), 1U);
  online.leave("sari@reef.example", "b");
  EXPECT_EQ(count("c"), 1U);
  EXPECT_EQ(enter("a"), 0U);  // refused for another reason where they were let in before
  online.leave("sari@reef.example", "a");
  EXPECT_EQ(count("c"), 1U);
}

TEST_F(OnlineTest, WithoutAPlaceEachCounts) {
  EXPECT_EQ(enter(""), 0U);
  EXPECT_EQ(enter(""), 1U);
  Session one = session(1, "");
  online.follow(one);  // one of the two begins
  EXPECT_EQ(count(""), 2U);
  online.follow(one);
  EXPECT_EQ(count(""), 2U);
  EXPECT_EQ(count("", "sari@reef.example", kNow + 61s), 1U);
}

TEST_F(OnlineTest, OfManyAtOnceOneIsTheFirst) {
  std::atomic<int> first{0};
  std::vector<std::thread> threads;
  for (int i = 0; i < 8; ++i)
    threads.emplace_back([&, i] {
      if (online.enter("sari@reef.example", std::to_string(i), kNow) == 0) ++first;
    });
  for (std::thread& one : threads) one.join();
  EXPECT_EQ(first, 1);
}

TEST_F(OnlineTest, ANameThatManyShareIsCountedLikeOthers) {
  constexpr int kGuests = 20'000;  // each step would take minutes if it looked at all of them
  for (int i = 0; i < kGuests; ++i) online.follow(session(i, "02-" + std::to_string(i)));
  for (int i = 0; i < kGuests; ++i) online.follow(session(i, "02-" + std::to_string(i)));  // their interims
  EXPECT_EQ(count("02-7"), kGuests - 1U);
  for (int i = 0; i < kGuests; ++i) online.follow(ended(session(i, "02-" + std::to_string(i))));
  EXPECT_EQ(online.users(), 0U);
}

TEST_F(OnlineTest, ASessionThatChangesItsUserOrPlaceIsOne) {
  online.follow(session(1, "a"));
  online.follow(session(1, "b"));
  EXPECT_EQ(count("b"), 0U);
  online.follow(session(1, "b", "wulan@reef.example"));
  EXPECT_EQ(count("x"), 0U);
  EXPECT_EQ(count("x", "wulan@reef.example"), 1U);
}

TEST_F(OnlineTest, ManyWhoNeverBeginAreForgotten) {
  for (int i = 0; i < 300'000; ++i) (void)online.enter(std::to_string(i), "a", kNow);
  EXPECT_LE(online.users(), 200'000U);
  (void)online.enter("last", "a", kNow + 100s);
  EXPECT_EQ(online.users(), 1U);
}

}  // namespace
}  // namespace jembatan::engine
