#include "store/journal_store.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/process.h"

namespace jembatan::store {
namespace {

using namespace std::chrono_literals;
using journal::Entry;
using testing::ElementsAre;

const WallTime kLater = WallTime(std::chrono::hours(24 * 20000));

Entry entry(std::uint64_t number, const std::string& user, const std::string& outcome = "accepted") {
  Entry out;
  out.number = number;
  out.at = kLater + std::chrono::seconds(number);
  out.outcome = outcome;
  out.client = "kerapu";
  out.user = user;
  out.name = user;
  out.reason = "a reason";
  out.trail = {"first step", "second step"};
  out.request = {1, 2, 3};
  return out;
}

class JournalStoreTest : public testing::Test {
 protected:
  JournalStoreTest() : store(*JournalStore::open(folder.path())) {}
  std::vector<std::uint64_t> found(const journal::Query& query) {
    std::vector<std::uint64_t> out;
    const auto entries = store->find(query);
    for (const Entry& one : *entries) out.push_back(one.number);
    return out;
  }
  support::TemporaryFolder folder;
  std::unique_ptr<JournalStore> store;
};

TEST_F(JournalStoreTest, FindsTheNewestFirst) {
  const std::vector<Entry> entries{entry(1, "Sari@Reef.example"), entry(2, "tamu@reef.example", "rejected"),
                                   entry(3, "sari@reef.example"), entry(4, "sari")};
  ASSERT_TRUE(store->append(entries));
  EXPECT_THAT(found({}), ElementsAre(4, 3, 2, 1));
  journal::Query query;
  query.user = "SARI@reef.example";
  EXPECT_THAT(found(query), ElementsAre(3, 1));
  query.user = "sari";  // with any realm, or none
  EXPECT_THAT(found(query), ElementsAre(4, 3, 1));
  query.before = 3;
  EXPECT_THAT(found(query), ElementsAre(1));
  query = {};
  query.outcome = "rejected";
  EXPECT_THAT(found(query), ElementsAre(2));
  query = {};
  query.since = kLater + 3s;
  EXPECT_THAT(found(query), ElementsAre(4, 3));
  query = {};
  query.text = "SECOND";
  query.most = 2;
  EXPECT_THAT(found(query), ElementsAre(4, 3));
  query.text = "100%";
  EXPECT_THAT(found(query), ElementsAre());
}

TEST_F(JournalStoreTest, KeepsAnEntryWhole) {
  ASSERT_TRUE(store->append(std::vector<Entry>{entry(5, "sari@reef.example")}));
  const auto again = JournalStore::open(folder.path());
  const auto kept = (*again)->entry(5);
  ASSERT_TRUE(kept && *kept);
  EXPECT_EQ((*kept)->trail, (std::vector<std::string>{"first step", "second step"}));
  EXPECT_EQ((*kept)->request, (Octets{1, 2, 3}));
  EXPECT_EQ((*kept)->at, kLater + 5s);
  EXPECT_EQ(*(*again)->last(), 5U);
  EXPECT_FALSE(*(*again)->entry(6));
}

TEST_F(JournalStoreTest, IsBoundedByAge) {
  ASSERT_TRUE(store->append(std::vector<Entry>{entry(1, "a"), entry(100, "b")}));
  journal::Limits limits;
  limits.keep = Duration(50000);
  ASSERT_TRUE(store->prune(limits, kLater + 100s));
  EXPECT_THAT(found({}), ElementsAre(100));
}

TEST_F(JournalStoreTest, IsBoundedBySize) {
  std::vector<Entry> entries;
  for (std::uint64_t i = 1; i <= 9000; ++i) {
    entries.push_back(entry(i, "sari@reef.example"));
    entries.back().trail.assign(5, std::string(100, 'x'));
  }
  ASSERT_TRUE(store->append(entries));
  journal::Limits limits;
  limits.most_octets = 2U << 20U;
  ASSERT_TRUE(store->prune(limits, kLater));
  const auto left = found({});
  ASSERT_FALSE(left.empty());
  EXPECT_EQ(left.front(), 9000U);  // the oldest went
  EXPECT_EQ(*store->last(), 9000U);
  journal::Query all;
  all.most = 10000;
  EXPECT_LT(found(all).size(), 5000U);
}

}  // namespace
}  // namespace jembatan::store
