#include "base/compact.h"

#include <gtest/gtest.h>

#include <chrono>
#include <limits>

namespace jembatan {
namespace {

using std::chrono::milliseconds;

TEST(Compact, NumbersAndTimesComeBack) {
  const WallTime noon(milliseconds(1792324800123));
  Octets octets;
  CompactWriter out(octets);
  for (const std::uint64_t number : {0ULL, 127ULL, 128ULL, ~0ULL}) out.number(number);
  out.difference(std::numeric_limits<std::int64_t>::min());
  out.moment(noon);
  out.moment(WallTime(milliseconds(-1)));
  out.moment(noon - milliseconds(7), noon);
  out.text("reef");

  CompactReader in(octets);
  for (const std::uint64_t number : {0ULL, 127ULL, 128ULL, ~0ULL}) EXPECT_EQ(in.number(), number);
  EXPECT_EQ(in.difference(), std::numeric_limits<std::int64_t>::min());
  EXPECT_EQ(in.moment(), noon);
  EXPECT_EQ(in.moment(), WallTime(milliseconds(-1)));
  EXPECT_EQ(in.moment(noon), noon - milliseconds(7));
  EXPECT_EQ(in.text(), "reef");
  EXPECT_TRUE(in.ok() && in.at_end());
}

TEST(Compact, TimesThatNoClockTellsAreRefused) {
  constexpr std::int64_t kLast = std::int64_t{1000} << 32U;
  for (const std::int64_t told :
       {kLast + 1, -kLast - 1, std::int64_t{78022037444643}, std::numeric_limits<std::int64_t>::max(),
        std::numeric_limits<std::int64_t>::min()}) {
    Octets octets;
    CompactWriter(octets).difference(told);
    CompactReader in(octets);
    EXPECT_EQ(in.moment(), WallTime{}) << told;
    EXPECT_FALSE(in.ok()) << told;
  }
  Octets octets;
  CompactWriter(octets).difference(kLast);
  EXPECT_TRUE(CompactReader(octets).moment() != WallTime{});
  CompactReader twice(octets);
  twice.moment(WallTime(milliseconds(1)));
  EXPECT_FALSE(twice.ok());
}

}  // namespace
}  // namespace jembatan
