#include "accounting/reconcile.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <random>

namespace jembatan::accounting {
namespace {

using namespace std::chrono_literals;
using testing::ElementsAre;
using testing::IsEmpty;

const WallTime kNoon{std::chrono::seconds(1'790'000'000)};

Digest some(std::mt19937_64& random) {
  Digest out;
  for (auto& octet : out) octet = static_cast<std::uint8_t>(random());
  return out;
}

std::vector<Entry> many(std::size_t count, unsigned seed = 1) {
  std::mt19937_64 random(seed);
  std::vector<Entry> out;
  for (std::size_t i = 0; i < count; ++i) {
    Entry one;
    one.id = static_cast<std::int64_t>(i) + 1;
    one.key = some(random);
    one.digest = some(random);
    one.event_time = kNoon + std::chrono::seconds(random() % (10 * 3600));
    one.received = one.event_time + 40ms;
    out.push_back(one);
  }
  return out;
}

Findings compare(std::vector<Entry> here, std::vector<Entry> there, const ReconcileWish& wish = {}) {
  LedgerAtHand a(std::move(here));
  LedgerAtHand b(std::move(there));
  auto out = reconcile(a, b, wish);
  EXPECT_TRUE(out);
  return *out;
}

std::vector<std::int64_t> ids(const std::vector<Entry>& entries) {
  std::vector<std::int64_t> out;
  for (const Entry& one : entries) out.push_back(one.id);
  std::sort(out.begin(), out.end());
  return out;
}

TEST(Reconcile, TheSameInAnyOrderAgrees) {
  auto there = many(3000);
  std::shuffle(there.begin(), there.end(), std::mt19937(3));
  const Findings found = compare(many(3000), there);
  EXPECT_TRUE(found.agree());
  EXPECT_EQ(found.records_here, 3000U);
  EXPECT_TRUE(compare({}, {}).agree());
}

TEST(Reconcile, FindsExactlyWhatDiffers) {
  auto here = many(5000);
  auto there = here;
  for (Entry& one : there) one.id += 100000;
  std::mt19937_64 random(9);
  there.erase(there.begin() + 70);   // record 71 is only here
  there[200].digest = some(random);  // 202 says something else there
  there.push_back(there[300]);       // 302 is there twice
  there.back().id = 999;
  here.push_back(here[400]);  // 401 is here twice
  here.back().id = 777;
  Entry foreign = many(1, 77).front();
  foreign.id = 888;
  there.push_back(foreign);
  const Findings found = compare(here, there);
  EXPECT_THAT(ids(found.only_here), ElementsAre(71));
  EXPECT_THAT(ids(found.only_there), ElementsAre(888));
  EXPECT_THAT(ids(found.double_there), ElementsAre(100302));
  EXPECT_THAT(ids(found.double_here), ElementsAre(777));
  ASSERT_EQ(found.different.size(), 1U);
  EXPECT_EQ(found.different[0].here.id, 202);
  EXPECT_EQ(found.different[0].there.id, 100202);
  EXPECT_FALSE(found.agree());
}

TEST(Reconcile, WhatOneSideAloneHasTwiceIsMissingAndDouble) {
  auto here = many(1);
  here.push_back(here.front());
  here.back().id = 2;
  const Findings found = compare(here, {});
  EXPECT_THAT(ids(found.only_here), ElementsAre(1));
  EXPECT_THAT(ids(found.double_here), ElementsAre(2));
}

TEST(Reconcile, AnotherTimeOfOneEventIsADifference) {
  auto here = many(10);
  auto there = here;
  std::mt19937_64 random(5);
  there[3].event_time += 5h;
  there[3].digest = some(random);
  const Findings found = compare(here, there);
  ASSERT_EQ(found.different.size(), 1U);
  EXPECT_THAT(found.only_here, IsEmpty());
  EXPECT_THAT(found.only_there, IsEmpty());
}

TEST(Reconcile, LateRecordsAreCountedOnBothSides) {
  auto here = many(100);
  auto there = here;
  there[7].received += 10min;
  there[8].received += 2h;
  EXPECT_TRUE(compare(here, there).agree());
  const Findings found = compare(here, there, {.late = 300s, .most_late = 1});
  EXPECT_EQ(found.late_here.count, 0U);
  EXPECT_EQ(found.late_there.count, 2U);
  EXPECT_EQ(found.late_there.first.size(), 1U);
  EXPECT_FALSE(found.agree());
}

TEST(Reconcile, ClocksAreToldByWhatWasAcknowledged) {
  auto here = many(50);
  auto there = here;
  for (std::size_t i = 0; i < here.size(); ++i) {
    here[i].sent = here[i].received;
    here[i].acknowledged = here[i].received + 10ms;
    there[i].received = here[i].received + 3s + 5ms;  // in the middle, by a clock that is 3 s ahead
  }
  const auto clocks = compare(here, there).clocks;
  ASSERT_TRUE(clocks);
  EXPECT_EQ(clocks->ahead, 3000ms);
  EXPECT_EQ(clocks->give_or_take, 5ms);
}

TEST(Reconcile, ASaltHidesAndStillCompares) {
  auto here = many(20);
  auto there = here;
  for (Entry& one : here) salt(one, "two companies' own");
  EXPECT_FALSE(compare(here, there).agree());
  for (Entry& one : there) salt(one, "two companies' own");
  EXPECT_TRUE(compare(here, there).agree());
  Entry plain = here[0];
  salt(plain, "");
  EXPECT_EQ(plain.key, here[0].key);
}

}  // namespace
}  // namespace jembatan::accounting
