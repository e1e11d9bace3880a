// What is found in the store, in which order.
#include <SQLiteCpp/Transaction.h>
#include <gmock/gmock.h>

#include <filesystem>

#include "store_fixture.h"

namespace jembatan::store {
namespace {

using testing::ElementsAre;
using testing::IsEmpty;

TEST_F(StoreTest, WhereARecordIsAndWhereItWaits) {
  const std::int64_t id = fill(incoming(start(), 0s, {"a", "b", "c"}));
  deliver(id, "b");
  const accounting::SetAside aside{id, "c", "too long"};
  ASSERT_TRUE(store->set_aside(std::span(&aside, 1)));
  const auto where = *store->whereabouts(id);
  ASSERT_EQ(where.waiting.size(), 2U);
  EXPECT_EQ(where.waiting[0].group, "a");
  EXPECT_EQ(where.waiting[0].why, "");
  EXPECT_EQ(where.waiting[1].why, "too long");
  EXPECT_EQ(where.delivered.at(0).group, "b");
  EXPECT_TRUE(store->whereabouts(99)->delivered.empty());
}

TEST_F(StoreTest, SearchesByEachPartNewestFirst) {
  fill(accounting_request("Start", "s1").user("sari"));
  fill(accounting_request("Start", "s2").user("tamu"));
  fill(accounting_request("Stop", "s2").user("tamu"), 5s);
  EXPECT_EQ(store->records({.user = "tamu"})->size(), 2U);
  EXPECT_EQ(store->records({.user = "tamu"})->at(0).status, accounting::StatusType::stop);
  EXPECT_EQ(store->records({.session_id = "s1"})->size(), 1U);
  EXPECT_EQ(store->records({.client = "nobody"})->size(), 0U);
  EXPECT_EQ(store->records({.realm = "reef.example", .most = 2})->size(), 2U);
  EXPECT_EQ(store->records({.id = 2})->at(0).session_id, "s2");
  EXPECT_EQ(store->records({.user = "x' OR '1'='1"})->size(), 0U);
}

TEST_F(StoreTest, WhoReadsSeesTheSame) {
  auto reader = AccountingStore::open_for_reading(folder.path());
  ASSERT_TRUE(reader);
  fill(incoming(start(), 0s, {"reef-homes"}));
  EXPECT_EQ((*reader)->records({})->size(), 1U);
  EXPECT_EQ((*reader)->undelivered("reef-homes", 0, 10)->size(), 1U);
  const Incoming one = incoming(start("s2"), 24h);
  EXPECT_FALSE((*reader)->fill(std::span(&one, 1)));
  fill(one);
  EXPECT_EQ((*reader)->records({})->size(), 2U);
}

std::vector<std::int64_t> ids(const std::vector<accounting::Record>& records) {
  std::vector<std::int64_t> out;
  for (const accounting::Record& one : records) out.push_back(one.id);
  return out;
}

TEST_F(StoreTest, PagesBehindARecordGoOverTheDaysInTheOrderOfTheIds) {
  fill(start("a"), 0s);
  fill(start("b"), 48h);
  fill(start("c"), 24h);  // the clock went back a day
  fill(start("d"), 49h);
  EXPECT_THAT(ids(*store->records({.behind = 0})), ElementsAre(1, 2, 3, 4));
  EXPECT_THAT(ids(*store->records({.behind = 0, .most = 2})), ElementsAre(1, 2));
  EXPECT_THAT(ids(*store->records({.behind = 1, .most = 2})), ElementsAre(2, 3));
  EXPECT_THAT(ids(*store->records({.behind = 2})), ElementsAre(3, 4));
  EXPECT_THAT(*store->records({.behind = 4}), IsEmpty());
  EXPECT_THAT(ids(*store->records({.session_id = "c", .behind = 0})), ElementsAre(3));
}

TEST_F(StoreTest, EachSessionIsReadOnceAlsoIfItCameBackFromAnOlderDay) {
  fill(start("a"));
  fill(start("b"));
  ASSERT_TRUE(store->tidy(kNow + 100h, {}));  // both are lost, and put away in time
  ASSERT_TRUE(store->tidy(kNow + 200h, {}));
  fill(interim("a").with("Acct-Session-Time", "360000"), 100h);
  ASSERT_TRUE(store->tidy(kNow + 400h, {}));
  ASSERT_TRUE(store->tidy(kNow + 500h, {}));
  std::map<std::int64_t, std::uint32_t> seen;
  ASSERT_TRUE(store->each_session({}, [&](const accounting::Session& one) {
    EXPECT_TRUE(seen.emplace(one.id, one.session_time).second) << one.id;
  }));
  EXPECT_EQ(seen, (std::map<std::int64_t, std::uint32_t>{{1, 360000}, {2, 0}}));
}

TEST_F(StoreTest, EntriesAreThoseOfAPeriodAndWhatAGroupWasSent) {
  fill(incoming(start("a"), 0s, {"homes", "archive"}));
  fill(incoming(start("b"), 1h, {"homes"}));
  fill(incoming(start("c"), 2h));
  deliver(1, "homes");
  deliver(1, "archive");
  const auto entries = [&](const accounting::LedgerQuery& query) {
    std::map<std::int64_t, accounting::Entry> out;
    EXPECT_TRUE(store->each_entry(
        query, [&](const accounting::Entry& one) { EXPECT_TRUE(out.emplace(one.id, one).second); }));
    return out;
  };
  EXPECT_EQ(entries({}).size(), 3U);
  EXPECT_EQ(entries({.since = kNow + 1h, .until = kNow + 2h}).size(), 1U);
  EXPECT_EQ(entries({.realm = "other.example"}).size(), 0U);
  EXPECT_EQ(entries({.client = "kerapu"}).size(), 3U);
  EXPECT_FALSE(entries({})[1].sent);
  const auto homes = entries({.sent_to = "homes", .as_sent = true});
  ASSERT_EQ(homes.size(), 2U);  // one that it has, one that waits
  EXPECT_EQ(homes.at(1).digest, accounting::Digest{7});
  EXPECT_EQ(homes.at(1).sent, kNow);
  EXPECT_FALSE(homes.at(2).sent);
  EXPECT_EQ(entries({.as_sent = true}).size(), 3U);
}

TEST_F(StoreTest, DaysOfTheVersionBeforeAreReadAndGoOn) {
  fill(start("a"));
  store.reset();
  const auto file = folder.path() / "records" / "2026-09-21.sqlite";
  open_to_write(file).exec("DROP INDEX record_by_event; PRAGMA user_version = 1");
  open();
  const auto count = [&] {
    int out = 0;
    EXPECT_TRUE(store->each_entry({}, [&](const accounting::Entry&) { ++out; }));
    return out;
  };
  EXPECT_EQ(count(), 1);
  fill(start("b"));
  EXPECT_EQ(count(), 2);
  store.reset();
  SQLite::Database day = open_to_read(file);
  EXPECT_EQ(number_of(day, "PRAGMA user_version"), 2);
  EXPECT_EQ(number_of(day, "SELECT count(*) FROM sqlite_master WHERE name = 'record_by_event'"), 1);
}

}  // namespace
}  // namespace jembatan::store
