// What waits at the nodes of a plan, with a real PostgreSQL.
#include "shared/shared_queue.h"

#include <gmock/gmock.h>

#include <future>

#include "unit/shared/scratch_database.h"

namespace jembatan::shared {
namespace {

using std::chrono::seconds;
using testing::ElementsAre;
using testing::IsEmpty;

class Queues : public Shared {
 protected:
  void SetUp() override {
    Shared::SetUp();
    for (const char* node : {"hub-a", "hub-b", "hub-c"}) (void)open(node, std::string("origin-of-") + node);
    (void)sql(
        "INSERT INTO jembatan.plan VALUES ('hub', 'o', 0); "
        "INSERT INTO jembatan.plan_member (plan, node, public_key, wrapped_key) "
        "SELECT 'hub', number, 'x', 'y' FROM jembatan.node WHERE name <> 'hub-c'");
  }
  static std::unique_ptr<SharedQueue> queue(const std::string& node) {
    auto out = SharedQueue::open({connection(), node, "origin-of-" + node}, "hub");
    EXPECT_TRUE(out) << out.error().text;
    return out ? std::move(*out) : nullptr;
  }
  static std::vector<accounting::Arrival> arrivals(const std::vector<std::int64_t>& numbers) {
    std::vector<accounting::Arrival> out;
    for (const std::int64_t number : numbers) out.push_back(record(number, "s" + std::to_string(number)));
    return out;
  }
  static void gone(const std::string& node, int for_seconds = 60) {
    (void)sql("UPDATE jembatan.node SET seen = now() - interval '" + std::to_string(for_seconds) +
              " seconds' WHERE name = '" + node + "'");
  }
  static std::vector<std::int64_t> numbers(const Result<std::vector<SharedQueue::Claimed>>& claimed) {
    std::vector<std::int64_t> out;
    if (!claimed) ADD_FAILURE() << claimed.error().text;
    if (claimed)
      for (const auto& one : *claimed) out.push_back(one.arrival.id);
    return out;
  }
  // Of all nodes: "1,2", with ! behind those that were taken.
  static std::string there() {
    return sql(
        "SELECT coalesce(string_agg(number || CASE WHEN taken IS NULL THEN '' ELSE '!' END, ',' "
        "ORDER BY number), '') FROM jembatan.waiting");
  }
};

TEST_F(Queues, WhatWaitsIsUpUntilItWaitsNoMore) {
  const auto hub = queue("hub-a");
  ASSERT_TRUE(hub->put_up("homes", arrivals({1, 2, 3})));
  ASSERT_TRUE(hub->put_up("homes", arrivals({2, 3, 4}))) << "again, after a restart";
  ASSERT_TRUE(hub->put_up("\xFF'; DROP", arrivals({2}))) << "not a text";
  EXPECT_EQ(there(), "1,2,2,3,4");
  EXPECT_EQ(hub->groups()->size(), 2U);
  ASSERT_TRUE(hub->take_down("homes", 3));
  EXPECT_EQ(there(), "2,3,4");
  ASSERT_TRUE(hub->take_down("homes", std::nullopt));
  EXPECT_EQ(there(), "2");
  const auto all = open("hub-b", "origin-of-hub-b")->nodes();
  EXPECT_EQ(all->front().waiting, 1U);
}

TEST_F(Queues, ARecordIsClaimedByOneOnlyOnceItsNodeIsGone) {
  const auto hub = queue("hub-a");
  const auto other = queue("hub-b");
  const auto records = arrivals({1, 2, 3});
  ASSERT_TRUE(hub->put_up("homes", records));
  EXPECT_THAT(numbers(other->claim(seconds(30), 10)), IsEmpty()) << "it is there";
  gone("hub-a");
  EXPECT_THAT(numbers(hub->claim(seconds(30), 10)), IsEmpty()) << "its own";
  EXPECT_THAT(numbers(queue("hub-c")->claim(seconds(30), 10)), IsEmpty()) << "not of the plan";
  const auto claimed = *other->claim(seconds(30), 2);
  ASSERT_EQ(claimed.size(), 2U);
  EXPECT_EQ(claimed[0].name, "hub-a");
  EXPECT_EQ(claimed[0].group, "homes");
  const accounting::Arrival& first = claimed[0].arrival;
  EXPECT_EQ(first.id, 1);
  EXPECT_EQ(first.received, records[0].received);
  EXPECT_EQ(first.event_time, records[0].event_time);
  EXPECT_EQ(first.client, records[0].client);
  EXPECT_EQ(first.source, records[0].source);
  EXPECT_EQ(first.realm, records[0].realm);
  EXPECT_EQ(first.key, records[0].key);
  EXPECT_EQ(first.digest, records[0].digest);
  EXPECT_EQ(first.attributes, records[0].attributes);
  EXPECT_THAT(numbers(other->claim(seconds(30), 10)), ElementsAre(3)) << "each once";
  (void)sql("UPDATE jembatan.waiting SET claimed_until = now() - interval '1 second' WHERE number = 2");
  EXPECT_THAT(numbers(other->claim(seconds(30), 10)), ElementsAre(2)) << "that claim had run out";
  ASSERT_TRUE(other->keep(claimed));
  EXPECT_EQ(there(), "1!,2!,3");
}

TEST_F(Queues, ANodeThatIsBackLearnsWhatOthersHaveOfIt) {
  const auto hub = queue("hub-a");
  const auto other = queue("hub-b");
  ASSERT_TRUE(hub->put_up("homes", arrivals({1, 2, 3})));
  gone("hub-a");
  const auto claimed = *other->claim(seconds(30), 2);
  ASSERT_TRUE(hub->renew());
  EXPECT_THAT(numbers(other->claim(seconds(30), 10)), IsEmpty()) << "it is back";
  EXPECT_FALSE(hub->handed_over(10)->settled) << "two are claimed";
  ASSERT_TRUE(hub->take_down("homes", 3));
  EXPECT_EQ(there(), "1,2,3") << "those least of all";
  ASSERT_TRUE(other->keep(claimed));
  const auto lost = *hub->handed_over(10);
  EXPECT_TRUE(lost.settled);
  ASSERT_EQ(lost.records.size(), 2U);
  EXPECT_EQ(lost.records[0].node, "hub-b");
  EXPECT_EQ(lost.records[0].group, "homes");
  EXPECT_EQ(lost.records[0].digest, claimed[0].arrival.digest);
  EXPECT_FALSE(hub->handed_over(1)->settled) << "there are more";
  ASSERT_TRUE(hub->put_up("homes", arrivals({1, 2}))) << "before it is noted here";
  ASSERT_TRUE(hub->forget(lost.records));
  EXPECT_EQ(there(), "3");
  EXPECT_TRUE(hub->handed_over(10)->settled);
}

// Several nodes at once, and the node itself in between: each record has one owner.
TEST_F(Queues, ClaimsAtOnceAreOfDifferentRecords) {
  std::vector<std::int64_t> all;
  for (std::int64_t number = 1; number <= 200; ++number) all.push_back(number);
  ASSERT_TRUE(queue("hub-a")->put_up("homes", arrivals(all)));
  gone("hub-a");
  std::vector<std::future<std::vector<std::int64_t>>> takers;
  for (int i = 0; i < 4; ++i)
    takers.push_back(std::async(std::launch::async, [] {
      std::vector<std::int64_t> out;
      const auto taker = queue("hub-b");
      for (int times = 0; times < 40; ++times) {
        const auto claimed = taker->claim(seconds(30), 7);
        for (const std::int64_t number : numbers(claimed)) out.push_back(number);
        if (claimed) {
          EXPECT_TRUE(taker->keep(*claimed));
        }
      }
      return out;
    }));
  std::vector<std::int64_t> taken;
  for (auto& taker : takers)
    for (const std::int64_t number : taker.get()) taken.push_back(number);
  std::sort(taken.begin(), taken.end());
  EXPECT_EQ(taken, all);
}

}  // namespace
}  // namespace jembatan::shared
