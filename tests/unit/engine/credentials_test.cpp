// What a request proves its user by, and every way around it that was tried (issue 10, part 1).
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "decide/explain.h"
#include "identity/challenge.h"
#include "unit/engine/one_node.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::access_request;
using support::secret;
using testing::HasSubstr;
using testing::StartsWith;
using wire::AttributeType;
using wire::Code;

constexpr const char* kRulesByMethod = R"(
[[access]]
name = "vouched for"
proof = "client"
permit = true
[[access]]
name = "plain alone"
when = 'User-Name == "tamu@reef.example"'
permit = true
methods = ["pap"]
reply = { vlan = 40, Session-Timeout = 7200 }
message = "Welcome aboard."
)";

class Credentials : public Handle {
 protected:
  void rules(std::string_view text = kRulesByMethod) {
    engine.use(board.go_live(support::plan_of(std::string(kPlan) + std::string(text)), ++revision),
               {clock.now(), out});
  }
  support::RequestBuilder tamu() { return access_request(++identifier).user("tamu@reef.example"); }
  // CHAP-Password, and the CHAP-Challenge that it answers.
  static Octets chap(std::string_view password) {
    Octets both{60, 18};
    both.resize(18, 0x11);
    append(both, Octets{3, 19, 5});
    append(both, identity::chap_response(5, view_of(password), Octets(16, 0x11)));
    return both;
  }
  const Actions& ask(const support::RequestBuilder& request, const char* from = "192.0.2.1:4000") {
    receive(request.signed_with(secret("laut")), from);
    if (!out.jobs.empty()) compare_all(engine, out, clock.now());
    return out;
  }
  std::string reason() const { return reason_text(event()); }
  std::optional<wire::Attribute> in_reply(AttributeType type) const {
    return wire::PacketView::parse(reply())->find(type);
  }

  std::uint64_t revision = 1;
  std::uint8_t identifier = 0;
};

TEST_F(Credentials, TwoKindsInOneRequestAreRefused) {  // RFC 2865 §4.1
  rules();
  ask(tamu().password("junk").plus(chap("ombak-3")));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("User-Password and CHAP-Password in one request"));
  ask(tamu().password("ombak-3").plus({79, 6, 2, 9, 0, 4}));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("EAP-Message and User-Password in one request"));
}

TEST_F(Credentials, TwoOfOneKindAreRefused) {
  ask(tamu().password("ombak-3").plus({1, 6, 's', 'a', 'r', 'i'}));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("User-Name stands 2 times"));
  Octets second{2, 18};
  second.resize(18);
  ask(tamu().password("ombak-3").plus(second));
  EXPECT_THAT(reason(), HasSubstr("User-Password stands 2 times"));
  Octets twice = chap("ombak-3");
  append(twice, chap("ombak-3"));
  ask(tamu().plus(twice));
  EXPECT_THAT(reason(), HasSubstr("CHAP-Password stands 2 times"));
}

TEST_F(Credentials, TwoKindsAreNotForwardedEither) {
  ask(access_request(1).user("rani@lagoon.example").password("x").plus(chap("x")));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_TRUE(out.asks.empty());
}

TEST_F(Credentials, AskingToBeAuthorizedAloneDoesNotMakeACredentialGood) {  // RFC 5176 §3.2
  rules();
  const auto authorize_only = [&] { return tamu().with("Service-Type", "Authorize-Only"); };
  ask(authorize_only());
  EXPECT_EQ(outcome(), "accepted");
  ask(authorize_only().password("wrong"));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_THAT(reason(), StartsWith("wrong password"));
  ask(authorize_only().plus({79, 6, 2, 9, 0, 4}));
  EXPECT_EQ(reply_code(), Code::access_reject);
  ask(authorize_only().plus({70, 18, 1, 2, 3, 4, 5, 6, 7, 8, 1, 2, 3, 4, 5, 6, 7, 8}));  // ARAP-Password
  EXPECT_EQ(reply_code(), Code::access_reject);
}

TEST_F(Credentials, AShortChapChallengeIsRefused) {  // RFC 2865 §5.40
  ask(tamu().plus(chap("ombak-3")).plus({60, 6, 1, 2, 3, 4}));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("CHAP-Challenge has 4 octets, must be 5 or more"));
}

TEST_F(Credentials, NeitherCredentialNorSignatureIsDropped) {  // RFC 3579 §3.3
  rules();
  receive(access_request().user("tamu@reef.example").not_signed(secret("laut")), "192.0.2.66:4000");
  EXPECT_TRUE(out.replies.empty());
  EXPECT_EQ(outcome(), "unsigned-request");
}

TEST_F(Credentials, ARuleWhoseMethodsDoNotFitGivesNothingAway) {
  rules();
  ask(tamu().plus(chap("ombak-3")));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_EQ(reason(),
            "the access rule does not accept the method ('plain alone' accepts pap; the request used chap)");
  EXPECT_EQ(support::value_in(reply(), "Tunnel-Private-Group-ID"), "(none)");
  EXPECT_EQ(support::value_in(reply(), "Session-Timeout"), "(none)");
  EXPECT_EQ(support::value_in(reply(), "Reply-Message"), "(none)");
}

TEST_F(Credentials, ARejectCarriesOnlyWhatItsTableAllows) {  // RFC 2865 §5.44
  const std::string rule = "[[access]]\nname = \"nobody\"\npermit = false\nmessage = \"Closed.\"\n";
  EXPECT_THAT(support::problems_of(kPlan + rule + "reply = { Session-Timeout = 60 }\n"),
              HasSubstr("'Session-Timeout' must not stand in an Access-Reject"));
  EXPECT_THAT(support::problems_of(kPlan + rule + "reply = { WISPr-Location-Name = \"deck\" }\n"),
              HasSubstr("'WISPr-Location-Name' must not stand in an Access-Reject"));
  rules(rule);
  ask(tamu().password("ombak-3"));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_EQ(support::value_in(reply(), "Reply-Message"), "\"Closed.\"");
}

struct EapCase {
  const char* name;
  const char* what;
};
class EapRejects : public Credentials, public testing::WithParamInterface<EapCase> {};

TEST_P(EapRejects, CarryEapFailureWithTheIdentifier) {  // RFC 3579 §2.6.3
  rules(R"(
[[route]]
name = "no yachts"
when = 'user starts with "yacht"'
handle = "refuse"
)");
  ask(access_request(7).user(GetParam().name).plus({79, 6, 2, 42, 0, 4}));
  if (!out.asks.empty()) silence();
  ASSERT_EQ(reply_code(), Code::access_reject) << GetParam().what;
  ASSERT_TRUE(in_reply(AttributeType::eap_message)) << GetParam().what;
  EXPECT_EQ(to_hex(in_reply(AttributeType::eap_message)->value), "042a0004");
  EXPECT_TRUE(in_reply(AttributeType::message_authenticator));
}
INSTANTIATE_TEST_SUITE_P(Paths, EapRejects,
                         testing::Values(EapCase{"x@nowhere.example", "a realm that is refused"},
                                         EapCase{"yacht@reef.example", "a route that refuses"},
                                         EapCase{"tamu@reef.example", "a method that is not here"},
                                         EapCase{"x@island.example", "a silent group"}));

TEST_F(Credentials, EapIsNotAnsweredHereWhoeverTheUserIs) {
  ask(access_request(7).user("anonymous@reef.example").plus({79, 6, 2, 42, 0, 4}));
  EXPECT_EQ(reason(), "the method is not answered here: PAP, CHAP and MS-CHAP are (eap)");
}

TEST_F(Credentials, AServersEapWithoutASignatureIsDropped) {  // RFC 3579 §3.1
  ask(access_request(7).user("x@island.example").plus({79, 6, 2, 42, 0, 4}));
  keep_asked();
  from_server(answer_of(Code::access_accept, "pulau", {79, 6, 3, 42, 0, 4}, false), "198.51.100.2:1812");
  EXPECT_EQ(outcome(), "reply-not-genuine");
  EXPECT_TRUE(out.replies.empty());
}

TEST_F(Credentials, ANameWithHalfARealmIsNotTheNameWithoutOne) {  // RFC 7542 §2.2
  ask(access_request(7).user("budi@").password("dermaga-2"));
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_THAT(reason(), HasSubstr("no realm follows (RFC 7542 §2.2)"));
  ask(access_request(8).user("budi").password("dermaga-2"));
  EXPECT_EQ(outcome(), "accepted");
}

TEST_F(Credentials, ARepeatIsTheSamePacketAndNothingElse) {  // RFC 5080 §2.2.2
  const auto request = [](std::string_view user, std::string_view password) {
    return access_request(5).user(user).password(password).authenticator(9).signed_with(secret("laut"));
  };
  receive(request("tamu@reef.example", "ombak-3"));
  EXPECT_EQ(outcome(), "accepted");
  receive(request("tamu@reef.example", "ombak-3"));
  EXPECT_EQ(outcome(), "repeat-answered");
  receive(request("tamu@reef.example", "wrong"));
  EXPECT_EQ(outcome(), "rejected");
  receive(request("budi@harbour.example", "dermaga-2"));
  EXPECT_EQ(outcome(), "accepted");
  expect_counters_to_add_up();
}

TEST_F(Credentials, UnknownUsersTakeAsLongAsHashedOnes) {
  receive(access_request(1).user("nobody@reef.example").password("x").signed_with(secret("laut")));
  ASSERT_EQ(out.jobs.size(), 1U);
  // Whoever types the password of the user whose hash is compared does not come in by it.
  const auto ticket = out.jobs.front().ticket;
  out.clear();
  engine.on_done(ticket, Compared{true}, {clock.now(), out});
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(reason(), "no such user here");
}

TEST_F(Credentials, GuessesInParallelAreNotAllCompared) {
  std::size_t compared = 0;
  for (int i = 0; i < 50; ++i) {
    receive(access_request(static_cast<std::uint8_t>(i))
                .user("sari@reef.example")
                .password("x")
                .signed_with(secret("laut")));
    compared += out.jobs.size();
  }
  EXPECT_EQ(compared, 10U);  // slow_after
}

TEST_F(Credentials, WhatIsUnreadableAndUnsignedDoesNotCount) {
  for (int i = 0; i < 30; ++i) {
    receive(access_request(static_cast<std::uint8_t>(i))
                .user("tamu@reef.example")
                .password("x")
                .not_signed(secret("other")),
            "192.0.2.66:4000");
    ASSERT_THAT(reason(), HasSubstr("unreadable"));
  }
  receive(access_request(99).user("tamu@reef.example").password("ombak-3").not_signed(secret("laut")),
          "192.0.2.66:4000");
  EXPECT_EQ(outcome(), "accepted");
}

// MS-CHAP version 1 by the password, for a user; right or wrong.
Octets ms_chap(std::string_view password) {
  const std::array<std::uint8_t, 8> challenge{1, 2, 3, 4, 5, 6, 7, 8};
  const auto response = identity::nt_response(challenge, *identity::nt_hash(view_of(password)));
  Octets both{26, 16, 0, 0, 1, 0x37, 11, 10};
  append(both, challenge);
  append(both, Octets{26, 58, 0, 0, 1, 0x37, 1, 52, 9, 1});
  both.resize(both.size() + 24);
  append(both, response);
  return both;
}

TEST_F(Credentials, MsChapTellsUnknownDisabledAndWrongAlikeUntilThePasswordIsRight) {  // RFC 2759 §6
  const auto error_for = [&](std::string_view user, std::string_view password) {
    ask(access_request(++identifier).user(user).plus(ms_chap(password)));
    EXPECT_EQ(reply_code(), Code::access_reject);
    const auto value = *from_hex(support::value_in(reply(), "MS-CHAP-Error").substr(2));
    return std::string(text_of(OctetView(value).subspan(1, 5)));  // behind the ident
  };
  EXPECT_EQ(error_for("nobody@reef.example", "x"), "E=691");
  EXPECT_EQ(error_for("tamu@reef.example", "wrong"), "E=691");
  EXPECT_EQ(error_for("lama@reef.example", "wrong"), "E=691");
  EXPECT_EQ(error_for("lama@reef.example", "x"), "E=647");
  EXPECT_EQ(reason(), "the user is switched off");
}

TEST_F(Credentials, AListenerOfAllAddressesIsKnownByTheOneThatWasAsked) {
  Engine everywhere({{{forward::Purpose::access, *Endpoint::parse("0.0.0.0:1812", 0)}}, 256, 10000ms, 64},
                    random, counters);
  everywhere.use(board.go_live(support::plan_of(R"(
[[client]]
name = "deck"
address = "192.0.2.1"
secret = "laut"
listeners = ["198.51.100.9:1812"]
)"),
                               2),
                 {clock.now(), out});
  const auto asked_at = [&](const char* address) {
    out.clear();
    everywhere.handle({0, *Endpoint::parse("192.0.2.1:4000", 0), *IpAddress::parse(address),
                       access_request(++identifier).user("x").password("x").signed_with(secret("laut"))},
                      {clock.now(), out});
    return outcome();
  };
  EXPECT_EQ(asked_at("198.51.100.9"), "rejected");
  EXPECT_EQ(asked_at("198.51.100.8"), "wrong-listener");
}

TEST_F(Credentials, ExplainDropsWhatAClientSendsThatIsSwitchedOff) {
  const auto plan = support::plan_of(kPlan);
  const Octets request = tamu().password("ombak-3").signed_with(secret("laut"));
  const auto told = decide::explain(
      {*plan, *wire::PacketView::parse(request), *plan->client_named("dry-dock"), false, clock.now().wall},
      decide::Assumed{});
  EXPECT_EQ(decide::name_of(told.outcome), "drop");
  EXPECT_EQ(told.summary, "dropped: the client is switched off (client-off)");
}

TEST_F(Credentials, ARequestThatWasHereBeforeEndsAsALoop) {
  ask(access_request(1).user("rani@lagoon.example").password("x"));
  keep_asked();
  const auto state = wire::PacketView::parse(asked)->find(AttributeType::proxy_state);
  Octets back{33, static_cast<std::uint8_t>(state->value.size() + 2)};
  append(back, state->value);
  ask(access_request(2).user("rani@lagoon.example").password("x").plus(back));
  EXPECT_EQ(outcome(), "loop");
  EXPECT_EQ(reply_code(), Code::access_reject);  // so that nobody is taken for dead
  EXPECT_TRUE(out.asks.empty());
  EXPECT_EQ(reason(),
            "forwarded in a circle (realm 'lagoon.example' leads to group 'lagoon' here, and from there back "
            "to this "
            "node by way of client 'deck')");
  back.back() ^= 1U;  // nobody else can make one
  ask(access_request(3).user("rani@lagoon.example").password("x").plus(back));
  EXPECT_EQ(out.asks.size(), 1U);
}

TEST_F(Credentials, TooManyHopsAreALoop) {
  const auto hops = [](std::size_t count) {
    Octets all;
    for (std::size_t i = 0; i < count; ++i) append(all, Octets{33, 3, 1});
    return all;
  };
  ask(access_request(1).user("rani@lagoon.example").password("x").plus(hops(15)));
  EXPECT_EQ(out.asks.size(), 1U);
  ask(access_request(2).user("rani@lagoon.example").password("x").plus(hops(16)));
  EXPECT_EQ(outcome(), "loop");
  EXPECT_EQ(reason(), "forwarded in a circle (it has passed 16 proxies, and most_hops is 16)");
}

}  // namespace
}  // namespace jembatan::engine
