#include "cli/load.h"

#include <gtest/gtest.h>

namespace jembatan::cli {
namespace {

TEST(LoadSumTest, IsOfAllSecondsTogether) {
  LoadResult result;
  result.seconds.resize(3);
  result.seconds[0] = {4, {{"Access-Accept", 3}, {"no answer", 1}}, {3000, 1000, 2000}};
  result.seconds[2] = {1, {{"Access-Accept", 1}}, {4000}};
  const LoadSum sum = sum_of(result);
  EXPECT_EQ(sum.requests, 5U);
  EXPECT_EQ(sum.outcomes.at("Access-Accept"), 4U);
  EXPECT_EQ(sum.outcomes.at("no answer"), 1U);
  EXPECT_EQ(sum.within(0), 1000U);
  EXPECT_EQ(sum.within(0.5), 3000U);
  EXPECT_EQ(sum.within(0.99), 4000U);
  EXPECT_EQ(sum.within(1), 4000U);
  EXPECT_EQ(LoadSum{}.within(0.5), 0U);
}

}  // namespace
}  // namespace jembatan::cli
