#include "forward/spread.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <map>
#include <numeric>
#include <random>
#include <thread>

#include "support/packets.h"

namespace jembatan::forward {
namespace {

using testing::ElementsAre;

Members all_of(std::size_t count) {
  Members out;
  for (std::size_t i = 0; i < count; ++i) out.set(i);
  return out;
}

TEST(EvenRound, IsAsShortAsTheWeightsAllowAndEven) {
  EXPECT_THAT(even_round({75, 25}, all_of(2)), testing::SizeIs(4));
  EXPECT_THAT(even_round({1, 1, 1}, all_of(3)), testing::UnorderedElementsAre(0, 1, 2));
  EXPECT_THAT(even_round({7}, all_of(1)), ElementsAre(0));
  EXPECT_THAT(even_round({0, 5}, all_of(2)), ElementsAre(1));
  EXPECT_THAT(even_round({0, 0}, all_of(2)), testing::UnorderedElementsAre(0, 1));
  EXPECT_THAT(even_round({9, 1, 1}, Members{6}), testing::UnorderedElementsAre(1, 2));
}

// Servers of one entry, as a host name with several addresses makes them, have its weight together.
TEST(EvenRound, AddressesOfOneNameShareItsWeight) {
  plan::Group group;
  group.servers.resize(6);
  for (std::size_t i = 0; i < 6; ++i) group.servers[i].weight = i < 3 ? 75 : 25;
  for (std::size_t i : {0, 1, 2}) group.servers[i].of_its_entry = 3;
  for (std::size_t i : {3, 4}) group.servers[i].of_its_entry = 2;
  EXPECT_THAT(weights_of(group), ElementsAre(150, 150, 150, 75, 75, 150));
}

// After each number of turns everybody has had the share, more or less one.
TEST(EvenRound, KeepsToTheSharesAtEachTurn) {
  std::mt19937 random(3);
  for (int round = 0; round < 300; ++round) {
    std::vector<std::uint32_t> weights(1 + random() % 12);
    for (auto& weight : weights) weight = 1 + static_cast<std::uint32_t>(random() % 60);
    const auto places = even_round(weights, all_of(weights.size()));
    const double total = std::accumulate(weights.begin(), weights.end(), 0.0);
    std::vector<double> had(weights.size());
    for (std::size_t turn = 0; turn < places.size(); ++turn) {
      ++had[places[turn]];
      for (std::size_t i = 0; i < weights.size(); ++i)
        ASSERT_LT(std::abs(had[i] - static_cast<double>(turn + 1) * weights[i] / total), 1.0);
    }
    for (std::size_t i = 0; i < weights.size(); ++i)
      ASSERT_DOUBLE_EQ(had[i] / static_cast<double>(places.size()), weights[i] / total);
  }
}

TEST(EvenRound, FineSharesAreRoundedSoThatRoundsStayShort) {
  const auto places = even_round({65535, 1, 32768}, all_of(3));
  EXPECT_LE(places.size(), 4100U);
  std::map<std::uint16_t, int> count;
  for (const auto place : places) ++count[place];
  EXPECT_NEAR(count[0] / static_cast<double>(places.size()), 2.0 / 3, 0.002);
  EXPECT_EQ(count[1], 1);  // everybody with a weight gets something
}

plan::Group group_of(std::initializer_list<std::uint16_t> weights) {
  plan::Group out;
  for (const std::uint16_t weight : weights) {
    out.servers.emplace_back();
    out.servers.back().weight = weight;
  }
  return out;
}

TEST(SpreadTest, AnyHundredRequestsHaveTheirShares) {
  const plan::Group group = group_of({75, 20, 5});
  Spread spread;
  std::vector<std::size_t> chosen;
  for (int i = 0; i < 1000; ++i) chosen.push_back(spread.next(group, all_of(3)));
  for (std::size_t from = 0; from + 100 <= chosen.size(); ++from) {
    std::array<int, 3> had{};
    for (std::size_t i = from; i < from + 100; ++i) ++had[chosen[i]];
    ASSERT_NEAR(had[0], 75, 1);
    ASSERT_NEAR(had[1], 20, 1);
    ASSERT_NEAR(had[2], 5, 1);
  }
}

TEST(SpreadTest, TheRestShareWhenOneIsDownAndGoOnWhenItIsBack) {
  const plan::Group group = group_of({50, 25, 25});
  Spread spread;
  std::array<int, 3> had{};
  for (int i = 0; i < 100; ++i) ++had[spread.next(group, all_of(3))];
  for (int i = 0; i < 100; ++i) ++had[spread.next(group, Members{6})];
  for (int i = 0; i < 100; ++i) ++had[spread.next(group, all_of(3))];
  EXPECT_THAT(had, ElementsAre(100, 100, 100));
}

TEST(SpreadTest, SharesAreThoseOfAllThreadsTogether) {
  const plan::Group group = group_of({3, 1});
  Spread spread;
  std::array<std::atomic<int>, 2> had{};
  std::vector<std::thread> threads;
  for (int i = 0; i < 4; ++i)
    threads.emplace_back([&] {
      for (int n = 0; n < 1000; ++n) ++had[spread.next(group, all_of(2))];
    });
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(had[0], 3000);
  EXPECT_EQ(had[1], 1000);
}

}  // namespace
}  // namespace jembatan::forward
