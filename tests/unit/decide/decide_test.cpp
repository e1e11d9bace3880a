// A plan and a request give a decision and a trail that an operator can read.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "base/text.h"
#include "decide/explain.h"
#include "dictionary/describe.h"
#include "support/packets.h"

namespace jembatan::decide {
namespace {

using support::access_request;
using support::accounting_request;
using support::secret;

constexpr const char* kPlan = R"(
[[client]]
name = "kerapu-deck"
address = "192.0.2.0/24"
secret = "laut"
labels = { place = "reef/kerapu", kind = "wireless" }
[[client]]
name = "engine-console"
address = "198.51.100.7"
secret = "laut"
labels = { place = "reef/engine-room", kind = "console" }
[[user]]
name = "sari@reef.example"
password = { clear = "x" }
groups = ["crew"]
[[user]]
name = "tamu@reef.example"
password = { clear = "x" }
groups = ["passengers"]
reply = { Session-Timeout = "1h" }
[[user]]
name = "juru@reef.example"
password = { clear = "x" }
groups = ["crew", "engineers"]
[[realm]]
name = "reef.example"
handle = "here"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
[[group]]
name = "lagoon"
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[route]]
name = "no printers"
when = 'User-Name starts with "printer"'
handle = "refuse"
message = "Printers stay ashore."
[[route]]
name = "test net"
when = 'realm == "reef.example" and NAS-IP-Address in 203.0.113.0/24'
handle = "group:lagoon"
for = ["access"]
[[access]]
name = "engineers at a console"
when = 'member of "engineers" and client.label.kind == "console"'
permit = true
reply = { Service-Type = "Administrative" }
[[access]]
name = "nobody else at a console"
when = 'client.label.kind == "console"'
permit = false
message = "Engineers only."
[[access]]
name = "crew on deck"
when = 'member of "crew" and client.label.place under "reef" and time within "Mon-Sun 04:00-23:30"'
permit = true
reply = { vlan = 30, Filter-Id = "crew" }
[[access]]
name = "passengers"
when = 'member of "passengers"'
permit = true
reply = { vlan = 40, Session-Timeout = "2h" }
)";

class Deciding : public testing::Test {
 protected:
  std::string explained(const Octets& octets, const char* from, const Assumed& assume = {}) {
    const auto packet = *wire::PacketView::parse(octets);
    const Request request{*plan, packet, *plan->client_at(*IpAddress::parse(from)),
                          packet.code() == wire::Code::accounting_request, now};
    const Explanation explanation = explain(request, assume);
    std::string out = explanation.summary + "\n";
    for (const std::string& line : explanation.lines) out += line + "\n";
    return out;
  }
  std::string sign_in(std::string_view user, const char* from, const Assumed& assume = {}) {
    return explained(access_request().user(user).password("x").signed_with(secret("laut")), from, assume);
  }
  plan::PlanPtr plan = support::plan_of(kPlan);
  WallTime now = *parse_time("2026-11-23T08:30:00Z");
};

TEST_F(Deciding, CrewOnDeckGetsItsVlan) {
  EXPECT_EQ(sign_in("sari@reef.example", "192.0.2.1"),
            R"(accepted: an access rule permits ('crew on deck')
client 'kerapu-deck' (192.0.2.0/24)
name 'sari@reef.example': user 'sari', realm 'reef.example'
route 1 'no printers': no, User-Name starts with "printer" (User-Name is "sari@reef.example")
route 2 'test net': no, NAS-IP-Address in 203.0.113.0/24 (NAS-IP-Address is not there)
realm table: 'reef.example' matches
password: taken for right
access rule 1 'engineers at a console': no, member of "engineers" (the user is in 'crew')
access rule 2 'nobody else at a console': no, client.label.kind == "console" (the client's label kind is 'wireless')
access rule 3 'crew on deck': yes, time within "Mon-Sun 04:00-23:30" (it is Mon 08:30 UTC)
reply: Tunnel-Type VLAN  from access rule 'crew on deck'
reply: Tunnel-Medium-Type IEEE-802  from access rule 'crew on deck'
reply: Tunnel-Private-Group-ID "30"  from access rule 'crew on deck'
reply: Filter-Id "crew"  from access rule 'crew on deck'
)");
}

TEST_F(Deciding, APassengerKeepsItsOwnSessionTimeout) {
  const std::string text = sign_in("tamu@reef.example", "192.0.2.1");
  EXPECT_THAT(text, testing::HasSubstr("reply: Session-Timeout 3600  from user 'tamu@reef.example'\n"));
  EXPECT_THAT(text,
              testing::HasSubstr("reply: Tunnel-Private-Group-ID \"40\"  from access rule 'passengers'\n"));
  EXPECT_THAT(text, testing::Not(testing::HasSubstr("7200")));
}

TEST_F(Deciding, AtAConsoleEngineersAloneAreLetIn) {
  EXPECT_THAT(sign_in("juru@reef.example", "198.51.100.7"),
              testing::StartsWith("accepted: an access rule permits ('engineers at a console')"));
  EXPECT_THAT(
      sign_in("tamu@reef.example", "198.51.100.7"),
      testing::AllOf(
          testing::StartsWith("rejected: an access rule denies ('nobody else at a console')"),
          testing::HasSubstr(
              "reply: Reply-Message \"Engineers only.\"  from access rule 'nobody else at a console'\n")));
}

TEST_F(Deciding, NothingMatchedIsSaid) {
  now = *parse_time("2026-11-23T02:00:00Z");
  const std::string text = sign_in("sari@reef.example", "192.0.2.1");
  EXPECT_THAT(text, testing::StartsWith("rejected: no access rule matches (pap, Mon 02:00 UTC)\n"));
  EXPECT_THAT(
      text,
      testing::HasSubstr(
          "access rule 3 'crew on deck': no, time within \"Mon-Sun 04:00-23:30\" (it is Mon 02:00 UTC)"));
}

TEST_F(Deciding, ARouteDecidesBeforeTheRealm) {
  EXPECT_THAT(sign_in("printer@reef.example", "192.0.2.1"),
              testing::StartsWith("rejected: a route says so ('no printers')\n"));
  const Octets test_net = access_request()
                              .user("sari@reef.example")
                              .with("NAS-IP-Address", "203.0.113.9")
                              .signed_with(secret("laut"));
  EXPECT_THAT(explained(test_net, "192.0.2.1"),
              testing::StartsWith("forwarded to group 'lagoon': a route says so ('test net')\n"));
}

TEST_F(Deciding, ARouteForAccessDoesNotTouchAccounting) {
  const Octets record = accounting_request("Start", "s1")
                            .user("sari@reef.example")
                            .with("NAS-IP-Address", "203.0.113.9")
                            .signed_with(secret("laut"));
  EXPECT_THAT(explained(record, "192.0.2.1"),
              testing::StartsWith("recorded: kept here, sent to nobody; the plan says so for this realm\n"));
}

TEST_F(Deciding, UnknownRealmsAndUsersAreNamedWithTheNearest) {
  EXPECT_THAT(sign_in("sari@ref.example", "192.0.2.1"),
              testing::HasSubstr("'ref.example' is not there (nearest: 'reef.example')"));
  EXPECT_THAT(sign_in("sri@reef.example", "192.0.2.1"),
              testing::HasSubstr("'sri@reef.example' is not there (nearest: 'sari@reef.example')"));
}

TEST_F(Deciding, AUsersTimeIsLookedAtBeforeThePassword) {
  plan = support::plan_of(std::string(kPlan) + R"(
[[user]]
name = "magang@reef.example"
password = { clear = "x" }
groups = ["crew"]
valid_from = "2026-11-01T00:00:00Z"
valid_until = "2026-12-01T00:00:00Z"
)");
  EXPECT_THAT(sign_in("magang@reef.example", "192.0.2.1"), testing::StartsWith("accepted"));
  now = *parse_time("2026-12-01T00:00:00Z");
  EXPECT_THAT(sign_in("magang@reef.example", "192.0.2.1"),
              testing::StartsWith("rejected: the user has expired\n"));
  now = *parse_time("2026-10-31T23:59:59Z");
  EXPECT_THAT(sign_in("magang@reef.example", "192.0.2.1"),
              testing::StartsWith("rejected: the user is not valid yet\n"));
}

TEST_F(Deciding, AWrongPasswordComesBeforeTheRules) {
  EXPECT_THAT(sign_in("sari@reef.example", "192.0.2.1", Assumed{false}),
              testing::StartsWith("rejected: wrong password\n"));
}

}  // namespace
}  // namespace jembatan::decide
