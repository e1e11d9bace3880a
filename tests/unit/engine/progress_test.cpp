#include "engine/progress.h"

#include <gtest/gtest.h>

#include "support/fakes.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;

TEST(ProgressTest, RateIsOfTheLastSeconds) {
  support::FakeClock clock;
  Progress progress;
  for (int i = 0; i < 1000; ++i) progress.acknowledged("homes", clock.advance(100ms));
  const auto now = progress.all(clock.now()).at("homes");
  EXPECT_EQ(now.acknowledged, 1000U);
  EXPECT_NEAR(now.per_second, 10, 0.2);
  EXPECT_EQ(now.last, clock.now().wall);
  EXPECT_LT(progress.all(clock.advance(60s)).at("homes").per_second, 0.1);
}

TEST(ProgressTest, AProblemLastsUntilSomethingIsAcknowledged) {
  support::FakeClock clock;
  Progress progress;
  progress.failed("homes", "one is silent", clock.now());
  const WallTime since = clock.now().wall;
  progress.failed("homes", "two are silent", clock.advance(5s));
  progress.acknowledged("records", clock.now());
  auto all = progress.all(clock.now());
  EXPECT_EQ(all.at("homes").problem, "two are silent");
  EXPECT_EQ(all.at("homes").problem_since, since);
  EXPECT_EQ(all.at("records").problem, "");
  progress.acknowledged("homes", clock.now());
  EXPECT_EQ(progress.all(clock.now()).at("homes").problem, "");
  EXPECT_FALSE(progress.all(clock.now()).at("homes").problem_since);
}

}  // namespace
}  // namespace jembatan::engine
