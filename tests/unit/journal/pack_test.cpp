// What is packed is read again as it was; octets that are no entries are errors.
#include "journal/pack.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/compact.h"
#include "support/journal.h"
#include "support/packets.h"
#include "wire/packet_digest.h"

namespace jembatan::journal {
namespace {

using namespace std::chrono_literals;
using engine::Event;
using engine::Given;
using engine::Outcome;
using testing::HasSubstr;

const WallTime kPackedAt = WallTime(std::chrono::hours(24 * 20000));

constexpr const char* kPackPlan = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[group]]
name = "first"
[[group.server]]
name = "first-1"
address = "198.51.100.9"
secret = "danau"
[[group]]
name = "lagoon"
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[group.server]]
name = "lagoon-2"
address = "198.51.100.2"
secret = "danau"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
)";

TEST(Compact, NumbersOfEverySizeComeBack) {
  Octets octets;
  CompactWriter out(octets);
  const std::vector<std::uint64_t> numbers{0, 1, 127, 128, 300, 1ULL << 32U, ~0ULL};
  const std::vector<std::int64_t> differences{0, -1, 1, -64, 64, INT64_MAX, INT64_MIN};
  for (const auto number : numbers) out.number(number);
  for (const auto difference : differences) out.difference(difference);
  out.text("sari");
  EXPECT_EQ(octets[3], 0x80);  // 128: 7 bits an octet
  EXPECT_EQ(octets[4], 0x01);
  CompactReader in(octets);
  for (const auto number : numbers) EXPECT_EQ(in.number(), number);
  for (const auto difference : differences) EXPECT_EQ(in.difference(), difference);
  EXPECT_EQ(in.text(), "sari");
  EXPECT_TRUE(in.at_end());
  EXPECT_TRUE(in.ok());
}

TEST(Compact, WhatIsBeyondTheEndIsNotRead) {
  for (const char* hex : {"", "80", "ffffffffffffffffffffff", "05616263"}) {
    const Octets octets = *from_hex(hex);
    CompactReader in(octets);
    EXPECT_TRUE(in.octets().empty()) << hex;
    EXPECT_FALSE(in.ok()) << hex;
    EXPECT_EQ(in.number(), 0U);
  }
}

Event event(std::uint64_t number, const std::string& user) {
  Event out;
  out.number = number;
  out.at = kPackedAt + std::chrono::seconds(number);
  out.outcome = Outcome::rejected;
  out.code = wire::Code::access_request;
  out.source = *Endpoint::parse("[2001:db8::7]:4000", 0);
  out.client = "deck";
  out.user = user;
  out.name = user + "@reef.example";
  out.realm = "reef.example";
  out.server = "lagoon/lagoon-1";
  out.because = "wrong password";
  out.detail = "it differs in letter case alone";
  out.mend = "compare with: …";
  out.took = 2100us;
  return out;
}

TEST(Pack, HeadingsComeBackAsTheyWere) {
  Packing packing;
  packing.add(event(41, "sari"));
  Event second = event(43, "budi");
  second.at = kPackedAt - 5s;  // the clock was set back
  second.source = *Endpoint::parse("192.0.2.7:1", 0);
  second.name = "";
  second.detail = "";
  packing.add(second);
  const Block block = packing.take();
  EXPECT_TRUE(packing.empty());
  EXPECT_EQ(block.first, 41U);
  EXPECT_EQ(block.last, 43U);
  EXPECT_EQ(block.from, kPackedAt - 5s);
  EXPECT_EQ(block.until, kPackedAt + 41s);
  const auto records = records_in(block);
  ASSERT_TRUE(records);
  ASSERT_EQ(records->size(), 2U);
  const Record& one = records->at(0);
  EXPECT_EQ(one.number, 41U);
  EXPECT_EQ(one.at, kPackedAt + 41s);
  EXPECT_EQ(one.outcome, Outcome::rejected);
  EXPECT_EQ(one.code, wire::Code::access_request);
  EXPECT_EQ(one.source.text(), "[2001:db8::7]:4000");
  EXPECT_EQ(one.user, "sari");
  EXPECT_EQ(one.name, "sari@reef.example");
  EXPECT_EQ(one.realm, "reef.example");
  EXPECT_EQ(one.server, "lagoon/lagoon-1");
  EXPECT_EQ(one.reason, "wrong password (it differs in letter case alone)");
  EXPECT_EQ(one.mend, "compare with: …");
  EXPECT_EQ(one.took, 2100us);
  EXPECT_TRUE(one.story.empty());
  const Record& other = records->at(1);
  EXPECT_EQ(other.number, 43U);
  EXPECT_EQ(other.at, kPackedAt - 5s);
  EXPECT_EQ(other.source.text(), "192.0.2.7:1");
  EXPECT_EQ(other.client, "deck");  // told by its place among those of the block
  EXPECT_EQ(other.name, "budi");
  EXPECT_EQ(other.reason, "wrong password");
}

TEST(Pack, BlocksKnowNothingOfEachOther) {
  Packing packing;
  packing.add(event(1, "sari"));
  (void)packing.take();
  packing.add(event(2, "sari"));
  const Block block = packing.take();
  const auto records = records_in(block);
  ASSERT_TRUE(records);
  EXPECT_EQ(records->at(0).number, 2U);
  EXPECT_EQ(records->at(0).client, "deck");
}

// Every kind of result, as the engine gives them to a course.
std::shared_ptr<engine::Story> story() {
  forward::HealthBoard board;
  auto out = std::make_shared<engine::Story>();
  out->live = board.go_live(support::plan_of(kPackPlan), 7);
  out->client = &out->live->plan->clients[0];
  out->request = support::access_request().user("rani@lagoon.example").signed_with(support::secret("laut"));
  out->arrived = kPackedAt - 3s;
  out->which_secret = plan::WhichSecret::old;
  out->group = 1;
  auto& given = out->given;
  given.push_back({1us, Given::Asked{0, false, 17}});
  given.push_back({2us, Given::Asked{1, true, 17}});
  given.push_back({3us, Given::Answered{1, out->request, {}}});
  given.push_back(
      {4us, Given::Compared{{false, "wrong password", "a hint", {18, 4, 'h', 'i'}, "pap"}, true}});
  given.push_back({5us, decide::Challenge{{24, 3, 9}}});
  given.push_back({6us, decide::Kept{true, "Start"}});
  given.push_back({7us, decide::Silence{"no server answered"}});
  given.push_back({8us, decide::Refusal{{Outcome::loop, "it was here before", "twice"}}});
  given.push_back(
      {9us, std::make_shared<const decide::Person>(decide::Person{decide::Person::Found::one,
                                                                  "why",
                                                                  "ldap://192.0.2.7",
                                                                  "uid=rani",
                                                                  {"crew", "deck"},
                                                                  {{"title", "Master"}},
                                                                  decide::Person::Password::wrong,
                                                                  decide::Person::Account::must_change})});
  return out;
}

Record record_of(const Block& block) {
  return records_in(block)->at(0);
}

Block packed(const engine::StoryPtr& of) {
  Packing packing;
  Event one = event(1, "rani@lagoon.example");
  one.story = of;
  packing.add(one);
  return packing.take();
}

TEST(Pack, AStoryComesBackWithEveryResult) {
  const auto was = story();
  const Block block = packed(was);
  const Record record = record_of(block);
  EXPECT_EQ(record.revision, 7U);
  const auto kept = story_of(record, was->live->plan);
  ASSERT_TRUE(kept) << kept.error().text;
  EXPECT_EQ(kept->story.client, was->client);
  EXPECT_EQ(kept->story.arrived, was->arrived);
  EXPECT_EQ(kept->story.which_secret, plan::WhichSecret::old);
  EXPECT_EQ(kept->story.group, 1U);
  EXPECT_TRUE(kept->story.reply.empty());
  EXPECT_EQ(record.leg, wire::leg_of(*wire::PacketView::parse(was->request)));
  EXPECT_EQ(std::get<Given::Asked>(kept->story.given[1].what).leg, 17U);
  const auto& given = kept->story.given;
  ASSERT_EQ(given.size(), was->given.size());
  for (std::size_t i = 0; i < given.size(); ++i) {
    EXPECT_EQ(given[i].what.index(), was->given[i].what.index());
    EXPECT_EQ(given[i].after, was->given[i].after);
  }
  EXPECT_EQ(std::get<Given::Asked>(given[0].what).server, 0);
  EXPECT_FALSE(std::get<Given::Asked>(given[0].what).again);
  EXPECT_EQ(std::get<Given::Asked>(given[1].what).server, 1);
  EXPECT_TRUE(std::get<Given::Asked>(given[1].what).again);
  EXPECT_EQ(std::get<Given::Answered>(given[2].what).server, 1);
  const auto& compared = std::get<Given::Compared>(given[3].what);
  EXPECT_TRUE(compared.waited);
  EXPECT_FALSE(compared.proof.right);
  EXPECT_EQ(compared.proof.because, "wrong password");
  EXPECT_EQ(compared.proof.detail, "a hint");
  EXPECT_EQ(compared.proof.by, "pap");
  EXPECT_EQ(compared.proof.besides, (Octets{18, 4, 'h', 'i'}));
  EXPECT_EQ(std::get<decide::Challenge>(given[4].what).attributes, (Octets{24, 3, 9}));
  EXPECT_TRUE(std::get<decide::Kept>(given[5].what).again);
  EXPECT_EQ(std::get<decide::Kept>(given[5].what).status, "Start");
  EXPECT_EQ(std::get<decide::Silence>(given[6].what).why, "no server answered");
  EXPECT_EQ(std::get<decide::Refusal>(given[7].what).ending.outcome, Outcome::loop);
  EXPECT_EQ(std::get<decide::Refusal>(given[7].what).ending.because, "it was here before");
  const auto& person = *std::get<decide::PersonPtr>(given[8].what);
  EXPECT_EQ(person.found, decide::Person::Found::one);
  EXPECT_EQ(person.why + person.server + person.name, "whyldap://192.0.2.7uid=rani");
  EXPECT_EQ(person.groups, (std::vector<std::string>{"crew", "deck"}));
  EXPECT_EQ(person.attributes.at("title"), "Master");
  EXPECT_EQ(person.password, decide::Person::Password::wrong);
  EXPECT_EQ(person.account, decide::Person::Account::must_change);
}

TEST(Pack, APlanWithoutWhatItTellsOfIsAnError) {
  const Block block = packed(story());
  const Record record = record_of(block);
  std::string other = kPackPlan;
  other.replace(other.find("lagoon-2"), 8, "lagoon-3");
  EXPECT_THAT(story_of(record, support::plan_of(other)).error().text, HasSubstr("no server 'lagoon-2'"));
  EXPECT_THAT(story_of(record, support::plan_of("")).error().text, HasSubstr("no client 'deck'"));
}

// No octet of a block can be changed, and no end cut off, so that more than an error comes of it.
TEST(Pack, WhatIsDamagedIsAnError) {
  const auto was = story();
  const Block whole = packed(was);
  std::size_t refused = 0;
  for (std::size_t at = 0; at < whole.entries.size(); ++at) {
    Block cut = whole;
    cut.entries.resize(at);
    EXPECT_EQ(records_in(cut).has_value(), at == 0) << at;
    for (const std::uint8_t other : {0x00, 0x7F, 0xFF}) {
      Block changed = whole;
      changed.entries[at] = other;
      const auto records = records_in(changed);
      if (!records || !story_of(records->at(0), was->live->plan)) ++refused;
    }
  }
  EXPECT_GT(refused, 100U);
}

}  // namespace
}  // namespace jembatan::journal
