// The journal tells what was sent: its trail is the course that the engine took.
#include <gmock/gmock.h>

#include "identity/challenge.h"
#include "support/journal.h"
#include "unit/engine/one_node.h"
#include "wire/hidden.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::access_request;
using support::secret;
using support::value_in;
using testing::Contains;
using testing::HasSubstr;
using testing::Not;
using wire::PacketView;

constexpr const char* kPlan = R"(
[[client]]
name = "gate"
address = "192.0.2.0/24"
secret = "laut"
[[user]]
name = "sari@reef.example"
password = { clear = "laut-biru-7" }
[[realm]]
name = "reef.example"
handle = "here"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
strip = true
[[group]]
name = "lagoon"
answer_within = "1s"
attempts = 1
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
priority = 1
[[group.server]]
name = "lagoon-2"
address = "198.51.100.2"
secret = "danau"
priority = 2
)";

class ToldAsSent : public Handle {
 protected:
  void use(const std::string& edits) {
    engine.use(board.go_live(support::plan_of(kPlan + edits), 2), {clock.now(), out});
  }
  std::vector<std::string> trail() const { return support::kept_entry(event()).trail; }
};

TEST_F(ToldAsSent, AHiddenValueOfAnEditAtReplying) {
  use(R"(
[[edit]]
name = "tunnel"
at = "replying"
set = { "Tunnel-Password[1]" = "terowong-{user}" }
)");
  const Octets asked_with =
      access_request().user("sari@reef.example").password("laut-biru-7").signed_with(secret("laut"));
  receive(asked_with);
  const auto sent = PacketView::parse(reply())->find(static_cast<wire::AttributeType>(69));
  ASSERT_TRUE(sent);
  const auto opened = wire::reveal_salted(sent->value.subspan(1),
                                          PacketView::parse(asked_with)->authenticator(), secret("laut"));
  EXPECT_EQ(text_of(*opened), "terowong-sari");
  EXPECT_THAT(trail(), Contains("edit 1 'tunnel' (replying): set Tunnel-Password[1] (hidden, 18 octets)"));
}

TEST_F(ToldAsSent, EditsBeforeForwardingWithTheNameAndTheServerThatWereAsked) {
  use(R"(
[[edit]]
name = "as they know it"
at = "forwarding"
when = 'server == "lagoon-2"'
set = { Filter-Id = "{User-Name} to {server}" }
)");
  receive(access_request().user("rani@lagoon.example").password("x").signed_with(secret("laut")));
  keep_asked();
  EXPECT_EQ(value_in(asked, "Filter-Id"), "(none)");
  silence();
  keep_asked();
  EXPECT_EQ(value_in(asked, "User-Name"), "\"rani\"");
  EXPECT_EQ(value_in(asked, "Filter-Id"), "\"rani to lagoon-2\"");
  from_server(answer_of(wire::Code::access_accept, "danau"), "198.51.100.2:1812");
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_THAT(
      trail(),
      testing::IsSupersetOf(std::vector<std::string>{
          "edit 1 'as they know it' (forwarding): no, server == \"lagoon-2\" (the server is 'lagoon-1')",
          "at once: asked lagoon/lagoon-1",
          "edit 1 'as they know it' (forwarding): set Filter-Id \"rani to lagoon-2\"",
          "after 1100.0 ms: asked lagoon/lagoon-2"}));
}

TEST_F(ToldAsSent, EditsAtReplyingWithWhatTheMethodHasInTheReply) {
  use(R"(
[[edit]]
name = "no keys for the printer"
at = "replying"
when = 'MS-CHAP2-Success present'
remove = ["MS-MPPE-Send-Key", "MS-MPPE-Recv-Key"]
)");
  const Octets password = octets_of("laut-biru-7");
  const auto hash = *identity::nt_hash(password);
  std::array<std::uint8_t, 16> peer{3};
  std::array<std::uint8_t, 16> mine{4};
  const std::string name = "sari@reef.example";
  const auto challenge = identity::challenge_hash(peer, mine, view_of(name));
  const auto response = identity::nt_response(challenge, hash);
  Octets value(50);
  std::copy(peer.begin(), peer.end(), value.begin() + 2);
  std::copy(response.begin(), response.end(), value.begin() + 26);
  receive(access_request()
              .user(name)
              .with("MS-CHAP-Challenge", "0x" + to_hex(mine))
              .with("MS-CHAP2-Response", "0x" + to_hex(value))
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_NE(value_in(reply(), "MS-CHAP2-Success"), "(none)");
  EXPECT_EQ(value_in(reply(), "MS-MPPE-Send-Key"), "(none)");
  EXPECT_THAT(trail(), Contains("edit 1 'no keys for the printer' (replying): removed MS-MPPE-Send-Key, "
                                "removed MS-MPPE-Recv-Key"));
}

TEST_F(ToldAsSent, EditsBeforeTheDecisionSeeTheNameAndItsRealm) {
  use(R"(
[[edit]]
name = "by the realm as it came"
at = "received"
when = 'realm == "lagoon.example" and user == "rani"'
set = { User-Name = "sari@reef.example" }
)");
  receive(access_request().user("rani@lagoon.example").password("laut-biru-7").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_THAT(trail(), testing::IsSupersetOf(std::vector<std::string>{
                           "edit 1 'by the realm as it came' (received): set User-Name \"sari@reef.example\"",
                           "name 'sari@reef.example': user 'sari', realm 'reef.example'"}));
}

// What was refused before it went on is not told as if it had gone on.
TEST_F(ToldAsSent, ALoopAsksNobody) {
  use(R"(
[[edit]]
name = "on the way"
at = "forwarding"
set = { Filter-Id = "x" }
)");
  receive(access_request(1).user("rani@lagoon.example").password("x").signed_with(secret("laut")));
  keep_asked();
  const auto state = PacketView::parse(asked)->find(wire::AttributeType::proxy_state);
  Octets back{33, static_cast<std::uint8_t>(state->value.size() + 2)};
  append(back, state->value);
  receive(access_request(2).user("rani@lagoon.example").password("x").plus(back).signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "loop");
  EXPECT_THAT(trail(), Not(Contains(HasSubstr("on the way"))));
}

}  // namespace
}  // namespace jembatan::engine
