#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "dictionary/describe.h"
#include "journal/scrub.h"
#include "support/journal.h"
#include "support/packets.h"

namespace jembatan::journal {
namespace {

using support::access_request;
using support::secret;
using testing::Contains;
using testing::ElementsAre;
using testing::HasSubstr;

Octets without_secrets(const wire::PacketView& packet, const dictionary::Catalogue& catalogue) {
  Octets out;
  add_without_secrets(packet, catalogue, out);
  return out;
}

std::vector<std::string> kept_of(const Octets& octets) {
  const Octets kept = without_secrets(*wire::PacketView::parse(octets), dictionary::standard());
  const auto packet = *wire::PacketView::parse(kept);
  EXPECT_EQ(packet.authenticator(), wire::Authenticator{});
  std::vector<std::string> out;
  for (const auto& line : dictionary::describe(dictionary::standard(), packet))
    out.push_back(line.name + " " + line.value);
  return out;
}

TEST(Scrub, VendorsOctetsThatFollowNoFormatAreNotKept) {
  const Octets packet = support::access_request(1)
                            .plus({26, 12, 0, 0, 1, 0x37, 1, 99, 's', 'e', 'c', 'r'})  // longer than it is
                            .plus({26, 5, 'a', 'b', 'c'})
                            .signed_with(support::secret("laut"));
  const Octets kept = without_secrets(*wire::PacketView::parse(packet), dictionary::standard());
  EXPECT_EQ(to_hex(kept).find(to_hex(view_of("secr"))), std::string::npos);
  EXPECT_EQ(to_hex(kept).find(to_hex(view_of("abc"))), std::string::npos);
}

TEST(WithoutSecrets, KeepsWhatIsNotHidden) {
  const Octets octets = access_request()
                            .user("sari@reef.example")
                            .password("laut-biru-7")
                            .with("CHAP-Password", "0x0100112233445566778899aabbccddeeff")
                            .with("EAP-Message", "0x0201000501")
                            .with("MS-CHAP2-Response", "0x" + std::string(100, 'a'))
                            .with("MS-CHAP-Challenge", "0x0011223344556677")
                            .with("NAS-Port-Type", "Virtual")
                            .signed_with(secret("laut"));
  const auto kept = kept_of(octets);
  EXPECT_THAT(kept, Contains("User-Name \"sari@reef.example\""));
  EXPECT_THAT(kept, Contains("NAS-Port-Type Virtual"));
  EXPECT_THAT(kept, Contains(HasSubstr("MS-CHAP-Challenge 0x0011223344556677")));
  const Octets clean = without_secrets(*wire::PacketView::parse(octets), dictionary::standard());
  const std::string hex = to_hex(clean);
  for (const char* gone : {"00112233445566778899aabb", "0201000501", "aaaaaaaaaa"})
    EXPECT_EQ(hex.find(gone), std::string::npos) << gone;
  EXPECT_EQ(wire::PacketView::parse(clean)->find(wire::AttributeType::user_password)->value.size(), 0U);
  EXPECT_TRUE(is_secret(dictionary::Path{2}, dictionary::standard()));
  EXPECT_TRUE(is_secret(dictionary::Path{26, 311, 25}, dictionary::standard()));
  EXPECT_FALSE(is_secret(dictionary::Path{26, 311, 11}, dictionary::standard()));
}

TEST(WithoutSecrets, TakesVendorsAttributesThatBreakTheirFormatAsTheyAre) {
  const auto kept =
      kept_of(access_request().raw(*from_hex("1a0a00000137190400ff")).signed_with(secret("laut")));
  EXPECT_FALSE(kept.empty());
}

constexpr const char* kPlan = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[user]]
name = "sari@reef.example"
password = { clear = "x" }
groups = ["crew"]
[[realm]]
name = "reef.example"
aliases = ["reef"]
handle = "here"
[sign_in]
name_forms = ["user@realm", 'realm\user']
[[access]]
name = "crew"
when = 'member of "crew"'
permit = true
)";

engine::Event event_of(const Octets& request, engine::Outcome outcome, std::string_view because,
                       decide::Proof proof) {
  forward::HealthBoard board;
  auto story = std::make_shared<engine::Story>();
  story->live = board.go_live(support::plan_of(kPlan), 7);
  story->client = &story->live->plan->clients[0];
  story->request = request;
  story->given.push_back({std::chrono::microseconds(1500), engine::Given::Compared{std::move(proof), true}});
  engine::Event out;
  out.number = 12;
  out.outcome = outcome;
  out.code = wire::Code::access_request;
  out.source = *Endpoint::parse("192.0.2.33:4000", 0);
  out.client = "deck";
  out.user = "REEF\\sari";
  out.because = because;
  out.took = std::chrono::microseconds(2100);
  out.story = story;
  return out;
}

TEST(KeptEntry, TellsTheStoryAsItWasDecided) {
  const Octets request = access_request().user("REEF\\sari").password("x").signed_with(secret("laut"));
  const Entry entry = support::kept_entry(
      event_of(request, engine::Outcome::accepted, "an access rule permits", decide::Proof{true}));
  EXPECT_EQ(entry.number, 12U);
  EXPECT_EQ(entry.revision, 7U);
  EXPECT_THAT(
      entry.trail,
      ElementsAre("client 'deck' (192.0.2.0/24): the longest prefix that holds 192.0.2.33",
                  "name 'REEF\\\\sari' (not user@realm, realm\\user): user 'sari', realm 'reef.example' "
                  "by its other name 'reef'; the plan makes it 'sari@reef.example'",
                  "the plan has no routes: the realm decides", "realm table: 'reef.example' matches",
                  "after 1.5 ms: the password was compared", "password: right",
                  "access rule 1 'crew': yes, member of \"crew\" (the user is in 'crew')",
                  "accepted after 2.1 ms: an access rule permits"));
}

TEST(KeptEntry, SaysWhyAPasswordWasWrong) {
  const Octets request = access_request().user("reef\\sari").password("X").signed_with(secret("laut"));
  engine::Event event = event_of(request, engine::Outcome::rejected, "wrong password",
                                 decide::Proof{false, "wrong password", "it differs in letter case alone"});
  event.detail = "it differs in letter case alone";
  EXPECT_THAT(support::kept_entry(event).trail,
              Contains("password: wrong password (it differs in letter case alone)"));
  EXPECT_THAT(support::kept_entry(event).trail, testing::Not(Contains(HasSubstr("access rule"))));
}

TEST(HoldsFor, AsksTheRequestOfAnEvent) {
  const Octets request = access_request().user("reef\\sari").password("x").signed_with(secret("laut"));
  const engine::Event event =
      event_of(request, engine::Outcome::accepted, "an access rule permits", decide::Proof{true});
  const auto holds = [&](const char* source) {
    std::vector<condition::Mistake> mistakes;
    return holds_for(*condition::Condition::parse(source, dictionary::standard(), mistakes), event);
  };
  EXPECT_TRUE(holds("realm == \"reef.example\" and member of \"crew\""));
  EXPECT_FALSE(holds("user == \"budi\""));
  EXPECT_FALSE(holds_for(*event.story->live->plan->access_rules[0].when, engine::Event{}));
}

}  // namespace
}  // namespace jembatan::journal
