#include "engine/slowdown.h"

#include <gtest/gtest.h>

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;

class SlowdownTest : public testing::Test {
 protected:
  SlowdownTest() {
    sari.name = "sari@reef.example";
    tamu.name = "tamu@reef.example";
    deck.name = "deck";
    pier.name = "pier";
    limits.slow_after = 3;
    limits.slow_at_most = 5s;
  }
  void wrong(int times) {
    for (int i = 0; i < times; ++i) slowdown.wrong(sari, deck, limits, now);
  }
  Duration wait() const { return slowdown.wait(sari, deck, now).value_or(Duration{0}); }

  plan::User sari;
  plan::User tamu;
  plan::Client deck;
  plan::Client pier;
  plan::SignIn limits;
  TimePoint now{100s};
  Slowdown slowdown{64};
};

TEST_F(SlowdownTest, GrowsWithWrongPasswordsInARow) {
  wrong(2);
  EXPECT_EQ(wait(), 0s);
  wrong(1);
  EXPECT_EQ(wait(), 1s);
  now += 1s;
  EXPECT_EQ(wait(), 0s);
  wrong(1);
  EXPECT_EQ(wait(), 2s);
  wrong(20);
  EXPECT_EQ(wait(), 5s);
}

TEST_F(SlowdownTest, ARightOneEndsIt) {
  wrong(3);
  slowdown.right(sari, deck);
  EXPECT_EQ(wait(), 0s);
  wrong(2);
  EXPECT_EQ(wait(), 0s);
}

TEST_F(SlowdownTest, IsOfOneUserFromOneClient) {
  wrong(10);
  EXPECT_FALSE(slowdown.wait(tamu, deck, now));
  EXPECT_FALSE(slowdown.wait(sari, pier, now));
}

TEST_F(SlowdownTest, CanBeSwitchedOff) {
  limits.slow_after = 0;
  wrong(100);
  EXPECT_EQ(wait(), 0s);
}

}  // namespace
}  // namespace jembatan::engine
