#include "store/journal_store.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/process.h"

namespace jembatan::store {
namespace {

using namespace std::chrono_literals;
using journal::Block;

const WallTime kLater = WallTime(std::chrono::hours(24 * 20000));

// As many entries as numbers, one a second.
Block block(std::uint64_t first, std::uint64_t last, std::size_t size = 3) {
  return {first, last, kLater + std::chrono::seconds(first), kLater + std::chrono::seconds(last),
          Octets(size, static_cast<std::uint8_t>(first))};
}

class JournalStoreTest : public testing::Test {
 protected:
  JournalStoreTest() : store(*JournalStore::open(folder.path())) {}
  // The first number of the block; 0: there is none.
  std::uint64_t below(std::uint64_t number, std::optional<WallTime> since = {},
                      std::optional<WallTime> until = {}) {
    const auto found = store->below(number, since, until);
    return *found ? (*found)->first : 0;
  }
  support::TemporaryFolder folder;
  std::unique_ptr<JournalStore> store;
};

TEST_F(JournalStoreTest, GivesBlocksFromTheNewestOn) {
  ASSERT_TRUE(store->append(std::vector{block(1, 4), block(5, 5), block(6, 9)}));
  EXPECT_EQ(below(~std::uint64_t{0}), 6U);
  EXPECT_EQ(below(8), 6U);
  EXPECT_EQ(below(6), 5U);
  EXPECT_EQ(below(5), 1U);
  EXPECT_EQ(below(1), 0U);
}

TEST_F(JournalStoreTest, OfATimeThoseThatHaveAnEntryInIt) {
  ASSERT_TRUE(store->append(std::vector{block(1, 4), block(5, 5), block(6, 9)}));
  EXPECT_EQ(below(100, kLater + 7s), 6U);
  EXPECT_EQ(below(6, kLater + 6s), 0U);
  EXPECT_EQ(below(100, {}, kLater + 6s), 5U);
  EXPECT_EQ(below(100, kLater + 2s, kLater + 5s), 1U);
}

TEST_F(JournalStoreTest, KeepsABlockWhole) {
  ASSERT_TRUE(store->append(std::vector{block(5, 9, 20000)}));
  const auto again = JournalStore::open(folder.path());
  const auto kept = (*again)->below(6, {}, {});
  ASSERT_TRUE(kept && *kept);
  EXPECT_EQ((*kept)->entries, Octets(20000, 5));
  EXPECT_EQ((*kept)->last, 9U);
  EXPECT_EQ((*kept)->from, kLater + 5s);
  EXPECT_EQ((*kept)->until, kLater + 9s);
  EXPECT_EQ(*(*again)->last(), 9U);
}

TEST_F(JournalStoreTest, AllOrNothing) {
  EXPECT_FALSE(store->append(std::vector{block(1, 1), block(1, 1)}));
  EXPECT_EQ(*store->last(), 0U);
}

TEST_F(JournalStoreTest, IsBoundedByAge) {
  ASSERT_TRUE(store->append(std::vector{block(1, 50), block(51, 100)}));
  journal::Limits limits;
  limits.keep = 50s;
  ASSERT_TRUE(store->prune(limits, kLater + 101s));
  EXPECT_EQ(below(100), 51U);
  EXPECT_EQ(below(51), 0U);
}

TEST_F(JournalStoreTest, IsBoundedBySize) {
  for (std::uint64_t i = 0; i < 100; ++i)
    ASSERT_TRUE(store->append(std::vector{block(i * 10 + 1, i * 10 + 10, 60000)}));
  journal::Limits limits;
  limits.most_octets = 2U << 20U;
  ASSERT_TRUE(store->prune(limits, kLater));
  EXPECT_EQ(*store->last(), 1000U);
  EXPECT_EQ(below(1000), 991U);
  EXPECT_EQ(below(600), 0U);  // the oldest went
  limits.most_octets = 1;
  ASSERT_TRUE(store->prune(limits, kLater));  // even if nothing is left
  EXPECT_EQ(below(1000), 0U);
}

TEST_F(JournalStoreTest, OneOfAnOlderVersionIsNotOpened) {
  store.reset();
  open_to_write(folder.path() / "journal.sqlite").exec("PRAGMA user_version = 1");
  const auto opened = JournalStore::open(folder.path());
  ASSERT_FALSE(opened);
  EXPECT_EQ(opened.error().code, Errc::conflict);
  EXPECT_THAT(opened.error().text, testing::HasSubstr("made by an older version (tables 1, known 3)"));
}

TEST_F(JournalStoreTest, IsRemovedWithAllThatBelongsToIt) {
  ASSERT_TRUE(store->append(std::vector{block(1, 4)}));
  store.reset();
  EXPECT_TRUE(JournalStore::remove(folder.path()));
  EXPECT_FALSE(JournalStore::remove(folder.path()));
  EXPECT_TRUE(std::filesystem::is_empty(folder.path()));
}

}  // namespace
}  // namespace jembatan::store
