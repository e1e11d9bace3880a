// Records that waited at another node and are sent from here.
#include <gmock/gmock.h>

#include "store/inbox.h"
#include "unit/store/store_fixture.h"

namespace jembatan::store {
namespace {

using testing::IsEmpty;

class TakenOver : public StoreTest {
 protected:
  // The same event, as another node has it.
  std::int64_t take_over(std::vector<std::string> groups) {
    Incoming one = incoming(start(), 0s, std::move(groups), false);
    one.taken_over = true;
    return fill(one);
  }
  void hand_over(std::int64_t id, const std::string& group) {
    const Delivered one = accounting::handed_over(id, group, {}, "hub-b", kNow + 1min);
    EXPECT_TRUE(store->delivered(std::span(&one, 1)));
  }
};

TEST_F(TakenOver, WhatIsNotKnownHereIsOnlyPassedOn) {
  const std::int64_t id = take_over({"homes"});
  ASSERT_EQ(waiting("homes").size(), 1U);
  EXPECT_THAT(sessions(), IsEmpty()) << "the node that received it tells of those";
  deliver(id, "homes");
  EXPECT_EQ(store->records({.id = id})->at(0).user, "");
}

TEST_F(TakenOver, WhatWasHandedOverMayComeBack) {
  const std::int64_t id = fill(incoming(start(), 0s, {"homes"}));
  hand_over(id, "homes");
  EXPECT_THAT(waiting("homes"), IsEmpty());
  EXPECT_EQ(accounting::handed_over_to(store->whereabouts(id)->delivered.at(0)), "hub-b");
  take_over({"homes"});
  ASSERT_EQ(waiting("homes").size(), 1U);
  EXPECT_EQ(waiting("homes")[0].arrival.id, id) << "there is one of it";
  EXPECT_THAT(store->whereabouts(id)->delivered, IsEmpty());
  take_over({"homes"});  // the claim had run out before it was marked
  EXPECT_EQ(waiting("homes").size(), 1U);
  deliver(id, "homes");
  EXPECT_EQ(store->whereabouts(id)->delivered.at(0).server, "reef-1");
  EXPECT_EQ(store->records({})->size(), 1U);
  EXPECT_EQ(sessions().size(), 1U);
  EXPECT_NE(store->records({.id = id})->at(0).user, "") << "it is kept here";
}

TEST_F(TakenOver, WhatTheGroupHasAcknowledgedHereDoesNotWaitAgain) {
  const std::int64_t id = fill(incoming(start(), 0s, {"homes", "archive"}));
  deliver(id, "homes");
  hand_over(id, "archive");
  take_over({"homes", "archive"});
  EXPECT_THAT(waiting("homes"), IsEmpty());
  EXPECT_EQ(waiting("archive").size(), 1U);
}

TEST_F(TakenOver, WhatIsOnlyPassedOnSaysAgainWhatItSaid) {
  const std::int64_t id = fill(incoming(start(), 0s, {"homes"}, false));
  const Octets attributes = waiting("homes").at(0).arrival.attributes;
  hand_over(id, "homes");
  EXPECT_THAT(store->records({.id = id})->at(0).attributes, IsEmpty());
  take_over({"homes"});
  ASSERT_EQ(waiting("homes").size(), 1U);
  EXPECT_EQ(waiting("homes")[0].arrival.attributes, attributes);
  deliver(id, "homes");
  EXPECT_THAT(store->records({.id = id})->at(0).attributes, IsEmpty());
}

TEST_F(TakenOver, TheInboxRemembersIt) {
  auto inbox = *Inbox::open(folder.path());
  std::vector<Incoming> records{incoming(start(), 0s, {"homes"}, false),
                                incoming(start("s2"), 0s, {"homes"})};
  records[0].taken_over = true;
  ASSERT_TRUE(inbox->append(records));
  const auto read = *inbox->behind(0, 10);
  ASSERT_EQ(read.size(), 2U);
  EXPECT_TRUE(read[0].taken_over);
  EXPECT_FALSE(read[0].keep);
  EXPECT_FALSE(read[1].taken_over);
  EXPECT_TRUE(read[1].keep);
}

// What a partner's ledger is compared with: nothing here says when a server had it.
TEST_F(TakenOver, TheLedgerKnowsNoAcknowledgement) {
  const std::int64_t id = fill(incoming(start(), 0s, {"homes"}));
  hand_over(id, "homes");
  std::vector<accounting::Entry> entries;
  accounting::LedgerQuery query;
  query.sent_to = "homes";
  ASSERT_TRUE(store->each_entry(query, [&](const accounting::Entry& one) { entries.push_back(one); }));
  ASSERT_EQ(entries.size(), 1U);
  EXPECT_TRUE(entries[0].sent);
  EXPECT_FALSE(entries[0].acknowledged);
}

}  // namespace
}  // namespace jembatan::store
