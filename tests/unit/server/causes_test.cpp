// What a stranger is told about the cause, at the hop where he looks (issue 10, part 4).
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "decide/reasons.h"
#include "identity/methods.h"
#include "server/event_text.h"
#include "unit/engine/one_node.h"
#include "wire/hidden.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::access_request;
using support::secret;
using testing::HasSubstr;

constexpr const char* kOldDeck = "192.0.2.66:4000";  // need not sign

class Causes : public Handle {
 protected:
  // The password is hidden with a secret that the client does not have.
  static Octets with_other_secret(std::string_view user, bool sign) {
    wire::Authenticator authenticator{};
    authenticator.fill(0x11);
    Octets hidden = *wire::hide_password(view_of("ombak-3"), authenticator, secret("karang"));
    hidden.insert(hidden.begin(), {2, static_cast<std::uint8_t>(hidden.size() + 2)});
    const auto request = access_request(7).authenticator(0x11).user(user).plus(hidden);
    return sign ? request.signed_with(secret("laut")) : request.not_signed(secret("laut"));
  }
  std::string mend() const { return server::mend_of(event(), {"--node hub.toml", "--node hub.toml", {}}); }
};

TEST_F(Causes, AnUnreadablePasswordOfAnUnsignedRequestBlamesThisClientsSecret) {
  receive(with_other_secret("tamu@reef.example", false), kOldDeck);
  EXPECT_EQ(event().because, decide::kUnreadableHere);
  EXPECT_EQ(mend(), "compare with: jembatan client secret show old-deck --node hub.toml");
}

TEST_F(Causes, OfASignedOneItBlamesAHopBefore) {
  receive(with_other_secret("tamu@reef.example", true));
  EXPECT_EQ(event().because, decide::kUnreadableBefore);
  EXPECT_EQ(mend(), "");
}

TEST_F(Causes, AProxySaysItselfThatItSentOnWhatItCouldNotRead) {
  receive(with_other_secret("rani@lagoon.example", false), kOldDeck);
  keep_asked();
  from_server(answer_of(wire::Code::access_reject, "danau"));
  EXPECT_EQ(event().because, decide::kSentOnUnreadable);
  EXPECT_EQ(mend(), "compare with: jembatan client secret show old-deck --node hub.toml");
  receive(access_request(8).user("rani@lagoon.example").password("ombak-3").signed_with(secret("laut")));
  keep_asked();
  from_server(answer_of(wire::Code::access_reject, "danau"));
  EXPECT_EQ(event().because, "the server's answer");
}

TEST_F(Causes, ASilentServerIsNamedWithItsStateAndHowToLookAtIt) {
  receive(access_request(1).user("x@island.example").password("x").signed_with(secret("laut")));
  silence();
  EXPECT_EQ(reason_text(event()), "no server answered (group strict-island: island-1 is silent)");
  EXPECT_EQ(mend(), "look at it: jembatan server check strict-island/island-1 --node hub.toml");
}

TEST_F(Causes, AServerThatGoesDownIsToldWithBothReasons) {
  for (std::uint8_t i = 0; i < 5; ++i) {
    receive(access_request(i)
                .user("x" + std::to_string(i) + "@island.example")
                .password("x")
                .signed_with(secret("laut")));
    silence();
  }
  ASSERT_EQ(out.notices.size(), 1U);
  EXPECT_THAT(out.notices[0].text, HasSubstr("another secret, or it does not know this node"));
  EXPECT_EQ(out.notices[0].asked_in_vain, "strict-island/island-1");
  receive(access_request(9).user("x@island.example").password("x").signed_with(secret("laut")));
  silence();
  EXPECT_THAT(event().detail, HasSubstr("island-1 is down since 2026-"));
  EXPECT_THAT(event().detail, HasSubstr("tried again in "));
}

TEST_F(Causes, AnUnknownRealmIsToldWithTheNearest) {
  receive(access_request(1).user("sari@raef.example").password("x").signed_with(secret("laut")));
  EXPECT_EQ(reason_text(event()), "no realm of the plan matches (raef.example)");
  EXPECT_EQ(mend(), "nearest: 'reef.example'");
}

TEST_F(Causes, AnUnknownUserIsToldWithTheNearest) {
  receive(access_request(1).user("tamo@reef.example").password("x").signed_with(secret("laut")));
  if (!out.jobs.empty()) compare_all(engine, out, clock.now());
  EXPECT_EQ(event().because, identity::kNoUser);
  EXPECT_EQ(mend(), "nearest: 'tamu@reef.example'");
}

TEST_F(Causes, WhereNoRuleMatchesTheMethodAndTheHourAreTold) {
  engine.use(board.go_live(support::plan_of(std::string(kPlan) + R"(
[[access]]
name = "by night"
when = 'time within "22:00-04:00"'
permit = true
)"),
                           2),
             {clock.now(), out});
  receive(access_request(1).user("tamu@reef.example").password("ombak-3").signed_with(secret("laut")));
  EXPECT_THAT(reason_text(event()), testing::MatchesRegex("no access rule matches \\(pap, Mon ..:.. UTC\\)"));
}

TEST_F(Causes, ARecordIsToldWithWhereItGoes) {
  const auto record = [&](const char* user) {
    account(support::accounting_request("Start", user).user(user).signed_with(secret("laut")));
    const Ticket ticket = out.jobs.at(0).ticket;
    out.clear();
    engine.on_done(ticket, accounting::Kept{1, false}, {clock.now(), out});
    return reason_text(event());
  };
  EXPECT_EQ(record("tamu@reef.example"), "record taken (Start, record 1; kept here, sent to nobody)");
  EXPECT_EQ(record("rani@lagoon.example"), "record taken (Start, record 1; kept here, queued for 'lagoon')");
}

}  // namespace
}  // namespace jembatan::engine
