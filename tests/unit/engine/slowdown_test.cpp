#include "engine/slowdown.h"

#include <gtest/gtest.h>

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;

class SlowdownTest : public testing::Test {
 protected:
  SlowdownTest() {
    limits.slow_after = 3;
    limits.slow_at_most = 5s;
  }
  void wrong(int times, const Slowdown::Attempt& attempt) {
    for (int i = 0; i < times; ++i) slowdown.wrong(attempt, limits, now);
  }
  Duration wait(const Slowdown::Attempt& attempt) {
    return slowdown.wait(attempt, limits, now).value_or(Duration{0});
  }

  const Slowdown::Attempt sari{"sari@reef.example", "deck", "station-1"};
  const Slowdown::Attempt stranger{"sari@reef.example", "deck", "station-2"};
  plan::SignIn limits;
  TimePoint now{100s};
  Slowdown slowdown{7, 64};
};

TEST_F(SlowdownTest, GrowsWithWrongPasswordsInARow) {
  wrong(2, sari);
  EXPECT_EQ(wait(sari), 0s);
  wrong(1, sari);
  EXPECT_EQ(wait(sari), 1s);
  now += 1s;
  EXPECT_EQ(wait(sari), 0s);
  wrong(1, sari);
  EXPECT_EQ(wait(sari), 2s);
  wrong(20, sari);
  EXPECT_EQ(wait(sari), 5s);
}

TEST_F(SlowdownTest, ARightOneEndsIt) {
  wrong(3, sari);
  slowdown.right(sari);
  EXPECT_EQ(wait(sari), 0s);
  wrong(2, sari);
  EXPECT_EQ(wait(sari), 0s);
}

TEST_F(SlowdownTest, IsOfOneUserFromOneClientAtOneStation) {
  wrong(10, sari);
  EXPECT_EQ(wait({"tamu@reef.example", "deck", "station-1"}), 0s);
  EXPECT_EQ(wait({"sari@reef.example", "pier", "station-1"}), 0s);
  EXPECT_EQ(wait(stranger), 0s);
  EXPECT_GT(wait(sari), 0s);
}

TEST_F(SlowdownTest, MadeUpStationsDoNotHelp) {
  for (int i = 0; i < 60; ++i) {
    const std::string station = "made-up-" + std::to_string(i);
    slowdown.wrong({"sari@reef.example", "deck", station}, limits, now);
  }
  EXPECT_GT(wait({"sari@reef.example", "deck", "another"}), 0s);
}

TEST_F(SlowdownTest, MistakesOfManyPeopleOverALongTimeAreNoGuessing) {
  for (int i = 0; i < 500; ++i) {
    const std::string station = "station-" + std::to_string(i);
    slowdown.wrong({"shared@reef.example", "deck", station}, limits, now);
    now += 1h;
  }
  slowdown.wrong({"shared@reef.example", "deck", "last"}, limits, now);
  EXPECT_EQ(wait({"shared@reef.example", "deck", "new"}), 0s);
}

TEST_F(SlowdownTest, AGuesserDoesNotLockOutAStationThatWasRightBefore) {
  slowdown.right(sari);
  for (int i = 0; i < 1000; ++i) {
    const std::string station = "made-up-" + std::to_string(i);
    slowdown.wrong({"sari@reef.example", "deck", station}, limits, now);
  }
  EXPECT_GT(wait(stranger), 0s);
  EXPECT_EQ(wait(sari), 0s);
}

TEST_F(SlowdownTest, GuessingInParallelGainsNothing) {
  int begun = 0;
  for (int i = 0; i < 2048; ++i) begun += slowdown.begin(sari, limits, now) ? 0 : 1;
  EXPECT_EQ(begun, 3);
  slowdown.wrong(sari, limits, now);
  slowdown.wrong(sari, limits, now);
  slowdown.right(sari);
  EXPECT_EQ(wait(sari), 0s);
}

TEST_F(SlowdownTest, NobodyEscapesBySharingAPlace) {
  for (int user = 0; user < 30; ++user) {
    const std::string name = "user-" + std::to_string(user);
    wrong(3, {name, "deck", ""});
    EXPECT_GT(wait({name, "deck", ""}), 0s) << name;
  }
}

TEST_F(SlowdownTest, CanBeSwitchedOff) {
  limits.slow_after = 0;
  wrong(100, sari);
  EXPECT_EQ(wait(sari), 0s);
}

TEST_F(SlowdownTest, ForgetsTheOldestWhenItIsFull) {
  wrong(3, sari);
  for (int user = 0; user < 100; ++user) wrong(1, {"user-" + std::to_string(user), "deck", ""});
  EXPECT_EQ(wait(sari), 0s);
}

}  // namespace
}  // namespace jembatan::engine
