#include "condition/hours.h"

#include <gtest/gtest.h>

#include "base/text.h"

namespace jembatan::condition {
namespace {

TEST(Hours, ANamedZoneHasItsSummerTime) {
  const auto hours = read_hours("Mon-Sun 07:00-08:00 Pacific/Auckland");
  ASSERT_TRUE(hours);
  EXPECT_TRUE(within(*hours, *parse_time("2026-01-14T18:30:00Z")));  // 13 hours ahead
  EXPECT_FALSE(within(*hours, *parse_time("2026-01-14T19:30:00Z")));
  EXPECT_TRUE(within(*hours, *parse_time("2026-07-14T19:30:00Z")));  // 12 hours ahead
  EXPECT_FALSE(within(*hours, *parse_time("2026-07-14T18:30:00Z")));
  EXPECT_EQ(clock_text(*hours, *parse_time("2026-07-14T19:30:00Z")), "Wed 07:30 Pacific/Auckland");
}

TEST(Hours, OffsetsAreSaidAsTheyAreWritten) {
  const WallTime now = *parse_time("2026-07-14T19:30:00Z");
  EXPECT_EQ(clock_text(*read_hours("Mon +05:30"), now), "Wed 01:00 +05:30");
  EXPECT_EQ(clock_text(*read_hours("Mon -03:00"), now), "Tue 16:30 -03:00");
  EXPECT_EQ(clock_text(*read_hours("Mon"), now), "Tue 19:30 UTC");
}

}  // namespace
}  // namespace jembatan::condition
