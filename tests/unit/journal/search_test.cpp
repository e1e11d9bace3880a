#include "journal/search.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/journal.h"
#include "support/packets.h"

namespace jembatan::journal {
namespace {

using namespace std::chrono_literals;
using engine::Event;
using engine::Outcome;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;

const WallTime kSearchedAt = WallTime(std::chrono::hours(24 * 20000));

constexpr const char* kSearchPlan = R"(
[[client]]
name = "kerapu"
address = "192.0.2.0/24"
secret = "laut"
[[user]]
name = "sari@reef.example"
password = { clear = "x" }
[[realm]]
name = "reef.example"
handle = "here"
[[access]]
name = "Second watch"
permit = true
)";

class Searching : public testing::Test {
 protected:
  static Event event(std::uint64_t number, const std::string& user, Outcome outcome = Outcome::accepted) {
    Event out;
    out.number = number;
    out.at = kSearchedAt + std::chrono::seconds(number);
    out.outcome = outcome;
    out.client = "kerapu";
    out.source = *Endpoint::parse("192.0.2.7:4000", 0);
    out.user = user;
    out.realm = "reef.example";
    out.because = "a reason";
    return out;
  }
  void keep(std::initializer_list<Event> events) {
    Packing packing;
    for (const Event& one : events) support::pack(packing, one);
    ASSERT_TRUE(blocks.append(std::vector{packing.take()}));
  }
  std::vector<std::uint64_t> found(const Query& query) {
    const auto all = find(blocks, query, plans, [] { return true; });
    std::vector<std::uint64_t> out;
    for (const Entry& one : all->entries) out.push_back(one.number);
    EXPECT_EQ(all->stopped_before, 0U);
    return out;
  }
  // An entry with a story, of the plan's revision 3.
  Event decided(std::uint64_t number) {
    auto story = std::make_shared<engine::Story>();
    story->live = board.go_live(plan, 3);
    story->client = &plan->clients[0];
    story->request = support::access_request().user("sari@reef.example").signed_with(support::secret("laut"));
    story->given.push_back({{}, engine::Given::Compared{{true}, false}});
    Event out = event(number, "sari@reef.example");
    out.story = std::move(story);
    return out;
  }

  support::MemoryBlocks blocks;
  forward::HealthBoard board;
  plan::PlanPtr plan = support::plan_of(kSearchPlan);
  std::size_t asked = 0;
  PlanOf plans = [this](std::uint64_t revision) -> Result<plan::PlanPtr> {
    ++asked;
    if (revision == 3) return plan;
    return fail(Errc::not_found, "there is no such revision");
  };
};

TEST_F(Searching, FindsTheNewestFirst) {
  keep({event(1, "Sari@Reef.example"), event(2, "tamu@reef.example", Outcome::rejected)});
  keep({event(3, "sari@reef.example"), event(4, "sari")});
  EXPECT_THAT(found({}), ElementsAre(4, 3, 2, 1));
  Query query;
  query.user = "SARI@reef.example";
  EXPECT_THAT(found(query), ElementsAre(3, 1));
  query.user = "sari";  // with any realm, or none
  EXPECT_THAT(found(query), ElementsAre(4, 3, 1));
  query.user = "sar";
  EXPECT_THAT(found(query), ElementsAre());
  query.user = "sari";
  query.before = 3;
  EXPECT_THAT(found(query), ElementsAre(1));
  query = {};
  query.most = 3;
  EXPECT_THAT(found(query), ElementsAre(4, 3, 2));
}

TEST_F(Searching, EachPartNarrows) {
  keep({event(1, "sari"), event(2, "tamu", Outcome::rejected), event(3, "sari")});
  Query query;
  query.outcome = "rejected";
  EXPECT_THAT(found(query), ElementsAre(2));
  query = {};
  query.since = kSearchedAt + 2s;
  EXPECT_THAT(found(query), ElementsAre(3, 2));
  query.until = kSearchedAt + 3s;
  EXPECT_THAT(found(query), ElementsAre(2));
  query = {};
  query.client = "kerapu";
  query.realm = "reef.example";
  EXPECT_THAT(found(query), ElementsAre(3, 2, 1));
  query.client = "kakap";
  EXPECT_THAT(found(query), ElementsAre());
  query.client = "";
  query.realm = "lagoon.example";
  EXPECT_THAT(found(query), ElementsAre());
}

TEST_F(Searching, ATextIsFoundInUserReasonAndTrail) {
  keep({event(1, "sari"), decided(2), event(3, "tamu")});
  Query query;
  query.text = "TAM";
  EXPECT_THAT(found(query), ElementsAre(3));
  query.text = "A reason";
  EXPECT_THAT(found(query), ElementsAre(3, 2, 1));
  query.text = "second WATCH";  // words of the trail, made now
  EXPECT_THAT(found(query), ElementsAre(2));
  query.text = "100%";
  EXPECT_THAT(found(query), ElementsAre());
}

TEST_F(Searching, StopsWhenItTakesLongAndSaysWhere) {
  for (std::uint64_t i = 1; i <= 5; ++i) keep({event(i, "sari")});
  int left = 2;
  const auto all = find(blocks, {}, plans, [&] { return --left > 0; });
  EXPECT_EQ(all->entries.size(), 2U);
  EXPECT_EQ(all->stopped_before, 4U);
}

TEST_F(Searching, AFullPageSkipsNothingOfItsBlock) {
  keep({event(1, "sari"), event(2, "sari"), event(3, "sari")});
  Query query;
  query.most = 2;
  const auto page = find(blocks, query, plans, [] { return false; });
  ASSERT_EQ(page->entries.size(), 2U);
  EXPECT_EQ(page->stopped_before, 0U);  // the next page begins before the last entry of this one
  query.before = page->entries.back().number;
  EXPECT_THAT(found(query), ElementsAre(1));
}

TEST_F(Searching, OneEntryWithItsTrail) {
  keep({event(1, "sari"), decided(2)});
  const auto kept = entry(blocks, 2, plans);
  ASSERT_TRUE(kept && *kept);
  EXPECT_THAT((*kept)->trail, Contains("access rule 1 'Second watch': yes, it always matches"));
  EXPECT_FALSE((*kept)->request.empty());
  EXPECT_THAT((*entry(blocks, 1, plans))->trail, ElementsAre("accepted: a reason"));
  EXPECT_FALSE(*entry(blocks, 3, plans));
  EXPECT_FALSE(*entry(blocks, 0, plans));
}

TEST_F(Searching, APlanThatIsGoneIsSaid) {
  const Event two = decided(2);
  const_cast<forward::LivePlan&>(*two.story->live).revision = 9;
  keep({two, decided(3)});
  EXPECT_THAT((*entry(blocks, 2, plans))->trail,
              ElementsAre("plan revision 9: there is no such revision: the steps cannot be told any more",
                          HasSubstr("accepted")));
  asked = 0;
  Query query;
  query.text = "watch";
  EXPECT_THAT(found(query), ElementsAre(3));
  EXPECT_EQ(asked, 2U);  // once a revision
}

TEST_F(Searching, ABlockThatCannotBeReadIsAnError) {
  keep({event(7, "sari")});
  blocks.all.begin()->second.entries.pop_back();
  EXPECT_THAT(find(blocks, {}, plans, [] { return true; }).error().text,
              HasSubstr("from number 7 on cannot be read"));
  EXPECT_FALSE(entry(blocks, 7, plans));
}

}  // namespace
}  // namespace jembatan::journal
