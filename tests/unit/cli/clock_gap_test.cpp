#include "cli/clock_gap.h"

#include <gtest/gtest.h>

#include "base/text.h"

namespace jembatan::cli {
namespace {

using namespace std::chrono_literals;

TEST(ClockGap, IsToldBeyondTwoSeconds) {
  const WallTime now = *parse_time("2026-11-25T07:00:00.500Z");
  const auto gap = [&](const char* time) {
    return clock_gap("hub", std::string("Wed, 25 Nov 2026 ") + time + " GMT", now, now + 100ms);
  };
  EXPECT_EQ(gap("07:00:00"), "");
  EXPECT_EQ(gap("07:00:02"), "");  // cut to its second
  EXPECT_EQ(gap("06:59:58"), "");
  EXPECT_EQ(gap("07:00:09"),
            "the clock of node hub is 8s ahead of this machine's: times in what it says differ "
            "by that much");
  EXPECT_EQ(gap("06:59:50"),
            "the clock of node hub is 9s behind this machine's: times in what it says differ by "
            "that much");
  EXPECT_EQ(clock_gap("hub", "yesterday", now, now), "");
}

}  // namespace
}  // namespace jembatan::cli
