#include "accounting/usage.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>

namespace jembatan::accounting {
namespace {

using namespace std::chrono_literals;

const WallTime kMidnight = std::chrono::sys_days(std::chrono::year(2026) / 11 / 26);

Session session(WallTime started, std::chrono::seconds lasts, std::uint64_t in, std::uint64_t out,
                std::string user = "sari@reef.example") {
  Session one;
  one.user = std::move(user);
  one.started = started;
  one.updated = one.heard = started + lasts;
  one.ended = one.updated;
  one.ended_by = EndedBy::stop;
  one.session_time = static_cast<std::uint32_t>(lasts.count());
  one.input_octets = in;
  one.output_octets = out;
  return one;
}

UsageWish by_user(WallTime since, WallTime until) {
  return {since, until, 0s, [](const Session& one) { return one.user; }};
}
UsageWish by_day(WallTime since, WallTime until) {
  return {since, until, 86400s};
}

TEST(Usage, SumsWhatEachUsed) {
  Usage usage(by_user(kMidnight, kMidnight + 24h));
  usage.add(session(kMidnight + 1h, 600s, 100, 50));
  usage.add(session(kMidnight + 1h + 300s, 600s, 1, 2));
  usage.add(session(kMidnight + 5h, 60s, 7000, 0, "wulan@reef.example"));
  const auto rows = usage.rows();
  ASSERT_EQ(rows.size(), 2U);
  EXPECT_EQ(rows[0].whose, "wulan@reef.example");
  EXPECT_EQ(rows[1].sessions, 2U);
  EXPECT_EQ(rows[1].seconds, 1200U);
  EXPECT_EQ(rows[1].input_octets, 101U);
  EXPECT_EQ(rows[1].output_octets, 52U);
  EXPECT_EQ(rows[1].peak, 2U);
  EXPECT_EQ(usage.all().sessions, 3U);
  EXPECT_EQ(usage.all().peak, 2U);
}

TEST(Usage, OneThatEndsWhenAnotherBeginsIsNotAtOnce) {
  Usage usage(by_user(kMidnight, kMidnight + 24h));
  usage.add(session(kMidnight + 1h, 600s, 0, 0));
  usage.add(session(kMidnight + 1h + 600s, 600s, 0, 0));
  usage.add(session(kMidnight + 9h, 0s, 0, 0));
  EXPECT_EQ(usage.all().peak, 1U);
  EXPECT_EQ(usage.all().sessions, 3U);
}

TEST(Usage, ASessionAcrossTheBordersCountsByWhatItsRecordsTold) {
  // 23:00 to 01:00: 1,000 octets until 23:30, 1,000 more until 00:30, 8,000 in the last half hour.
  const Session one = session(kMidnight - 1h, 7200s, 10000, 0);
  const std::vector<UsagePoint> told{{kMidnight + 30min, 5400, 2000, 0}, {kMidnight - 30min, 1800, 1000, 0}};
  Usage today(by_user(kMidnight, kMidnight + 24h));
  EXPECT_TRUE(today.crosses(one));
  today.add(one, told);
  EXPECT_EQ(today.all().input_octets, 8500U);
  EXPECT_EQ(today.all().seconds, 3600U);
  Usage days(by_day(kMidnight - 24h, kMidnight + 24h));
  EXPECT_TRUE(days.crosses(one));
  days.add(one, told);
  const auto rows = days.rows();
  ASSERT_EQ(rows.size(), 2U);
  EXPECT_EQ(rows[0].whose, "2026-11-25");
  EXPECT_EQ(rows[0].input_octets, 1500U);
  EXPECT_EQ(rows[1].whose, "2026-11-26");
  EXPECT_EQ(rows[1].input_octets, 8500U);
  EXPECT_EQ(days.all().sessions, 1U);
}

TEST(Usage, WhatTouchesTheBorderIsCountedOnce) {
  // Ends at midnight to the millisecond: it belongs to the day before and to no other.
  const Session one = session(kMidnight - 1h, 3600s, 500, 500);
  Usage days(by_day(kMidnight - 24h, kMidnight + 24h));
  days.add(one);
  const auto rows = days.rows();
  ASSERT_EQ(rows.size(), 2U);
  EXPECT_EQ(rows[0].whose, "2026-11-25");
  EXPECT_EQ(rows[0].output_octets, 500U);
  EXPECT_EQ(rows[1].whose, "2026-11-26");  // a day without anything is a day, too
  EXPECT_EQ(rows[1].sessions, 0U);
  Usage after(by_user(kMidnight, kMidnight + 24h));
  after.add(one);
  EXPECT_TRUE(after.rows().empty());
  EXPECT_EQ(after.all().sessions, 0U);
}

TEST(Usage, PartsAddUpToTheWhole) {
  std::mt19937_64 random(4);
  Usage whole(by_user(kMidnight, kMidnight + 240h));
  Usage hours(UsageWish{kMidnight, kMidnight + 240h, 3600s});
  for (int i = 0; i < 500; ++i) {
    const auto lasts = std::chrono::seconds(random() % 200000);
    const Session one = session(kMidnight - 20h + std::chrono::milliseconds(random() % 900000000), lasts,
                                random() % 1000000, random() % 7);
    std::vector<UsagePoint> told;
    for (int k = 0; k < 5; ++k)
      told.push_back({one.started + std::chrono::seconds(random() % 200000), random() % 200000,
                      random() % 1000000, random() % 7});
    whole.add(one, told);
    hours.add(one, told);
  }
  EXPECT_EQ(hours.all().input_octets, whole.all().input_octets);
  EXPECT_EQ(hours.all().output_octets, whole.all().output_octets);
  EXPECT_EQ(hours.all().seconds, whole.all().seconds);
  EXPECT_EQ(hours.all().peak, whole.all().peak);
  EXPECT_EQ(hours.rows().size(), 240U);
}

TEST(Usage, AnOpenSessionCountsUpToWhatWasTold) {
  Session one = session(kMidnight + 1h, 1800s, 10, 20);
  one.ended.reset();
  one.session_time = 0;  // not told: the time between the first record and the last
  Usage usage(by_user(kMidnight, kMidnight + 24h));
  usage.add(one);
  EXPECT_EQ(usage.all().seconds, 1800U);
}

}  // namespace
}  // namespace jembatan::accounting
