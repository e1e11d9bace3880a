#include "engine/conversations.h"

#include <gtest/gtest.h>

#include <thread>

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;

Conversations::State state_of(std::uint8_t number, std::uint8_t shard = 0) {
  Conversations::State out{};
  out[0] = number;
  out[15] = shard;
  return out;
}

Conversation of(const char* client) {
  return {nullptr, client, "sari"};
}

TEST(Conversations, AreTakenOutOnceByTheirClient) {
  Conversations all;
  const TimePoint now{};
  all.put(state_of(1), of("edge"), now);
  EXPECT_FALSE(all.take(state_of(1), "hub", now));
  EXPECT_FALSE(all.take(state_of(2), "edge", now));
  EXPECT_FALSE(all.take(OctetView(state_of(1)).first(15), "edge", now));
  EXPECT_EQ(all.take(state_of(1), "edge", now)->user, "sari");
  EXPECT_FALSE(all.take(state_of(1), "edge", now));
  EXPECT_EQ(all.size(), 0U);
}

TEST(Conversations, Expire) {
  Conversations all(16, Duration{1000});
  all.put(state_of(1), of("edge"), TimePoint{});
  EXPECT_FALSE(all.take(state_of(1), "edge", TimePoint{} + 1s));
  EXPECT_EQ(all.size(), 0U);
}

TEST(Conversations, ThatLastLongHoldNoneThatExpireBefore) {
  Conversations all(4 * 16);
  all.put(state_of(1), of("edge"), TimePoint{}, TimePoint{} + 600s);
  for (std::uint8_t i = 2; i < 4; ++i) all.put(state_of(i), of("edge"), TimePoint{}, TimePoint{} + 10s);
  EXPECT_FALSE(all.take(state_of(2), "edge", TimePoint{} + 10s));
  EXPECT_EQ(all.size(), 1U) << "both are gone";
  EXPECT_TRUE(all.take(state_of(1), "edge", TimePoint{} + 599s));
}

TEST(Conversations, WhoHasMostLosesTheOldest) {
  Conversations all(4 * 16);
  const TimePoint now{};
  all.put(state_of(1), of("hub"), now);
  for (std::uint8_t i = 2; i < 20; ++i) all.put(state_of(i), of("edge"), now);
  EXPECT_EQ(all.pushed_out(), 15U);
  EXPECT_TRUE(all.take(state_of(1), "hub", now));
  EXPECT_FALSE(all.take(state_of(16), "edge", now));
  EXPECT_TRUE(all.take(state_of(17), "edge", now));
  EXPECT_TRUE(all.take(state_of(19), "edge", now));
}

TEST(Conversations, AreSharedByThreads) {
  Conversations all;
  std::vector<std::thread> threads;
  std::atomic<int> taken{0};
  for (std::uint8_t t = 0; t < 4; ++t) {
    threads.emplace_back([&all, &taken, t] {
      for (std::uint8_t i = 0; i < 200; ++i) {
        all.put(state_of(i, t), of("edge"), TimePoint{});
        for (std::uint8_t other = 0; other < 4; ++other)
          taken += all.take(state_of(i, other), "edge", TimePoint{}) ? 1 : 0;
      }
    });
  }
  for (std::thread& thread : threads) thread.join();
  EXPECT_EQ(static_cast<std::size_t>(taken) + all.size(), 800U);
}

}  // namespace
}  // namespace jembatan::engine
