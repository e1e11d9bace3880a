// The life of a request, one node, no network.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <numeric>

#include "engine/delivery.h"
#include "engine/engine.h"
#include "identity/challenge.h"
#include "support/fakes.h"
#include "support/journal.h"
#include "support/packets.h"
#include "unit/engine/one_node.h"
#include "wire/authenticator.h"
#include "wire/hidden.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::access_request;
using support::accounting_request;
using support::secret;
using support::status_server;
using support::value_in;
using wire::Code;
using wire::PacketView;

const Octets& tamu() {
  static const Octets octets =
      access_request().user("tamu@reef.example").password("ombak-3").signed_with(secret("laut"));
  return octets;
}

Octets lagoon(std::uint8_t identifier = 7) {
  return access_request(identifier).user("rani@lagoon.example").password("x").signed_with(secret("laut"));
}

TEST_F(Handle, TheRightPasswordIsAcceptedWithTheUsersReply) {
  receive(tamu());
  EXPECT_EQ(reply_code(), Code::access_accept);
  EXPECT_EQ(value_in(reply(), "Tunnel-Private-Group-ID"), "\"40\"");
  const auto accept = PacketView::parse(reply());
  EXPECT_EQ((*accept->attributes().begin()).type, wire::AttributeType::message_authenticator);  // first
  const wire::Authenticator request = PacketView::parse(tamu())->authenticator();
  EXPECT_TRUE(wire::verify_response(*accept, request, secret("laut")));
  EXPECT_EQ(wire::check_message_authenticator(*accept, request, secret("laut")), wire::Signature::valid);
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_EQ(event().user, "tamu@reef.example");
  expect_counters_to_add_up();
}

TEST_F(Handle, LetterCaseOfTheNameDoesNotMatter) {
  receive(access_request().user("TAMU@Reef.Example").password("ombak-3").signed_with(secret("laut")));
  EXPECT_EQ(reply_code(), Code::access_accept);
}

struct RefusalCase {
  const char* user;
  const char* password;
  const char* because;
};

TEST_F(Handle, EveryRefusalHasItsReason) {
  const RefusalCase cases[] = {
      {"tamu@reef.example", "Ombak-3", "wrong password: it differs in letter case alone"},
      {"tamu@reef.example", "ombak-3 ", "wrong password: it has a space too many at an end"},
      {"tamu@reef.example", "ombak-3123456", "wrong password: it has six digits more than expected"},
      {"tamu@reef.example", "o;bqk-3", "wrong password: it is typed as on another keyboard layout"},
      {"tamu@reef.example", "baut-11", "wrong password"},
      {"tamu@reef.example", "", "wrong password: the password is empty"},
      {"nobody@reef.example", "x", "no such user here"},
      {"lama@reef.example", "x", "the user is switched off"},
      {"x@nowhere.example", "x", "no realm of the plan matches: nowhere.example"},
  };
  std::uint8_t identifier = 0;
  for (const RefusalCase& one : cases) {
    receive(access_request(++identifier).user(one.user).password(one.password).signed_with(secret("laut")));
    if (!out.jobs.empty()) compare_all(engine, out, clock.now());
    EXPECT_EQ(reply_code(), Code::access_reject) << one.user;
    const std::string hint = event().detail.empty() ? "" : ": " + event().detail;
    EXPECT_EQ(std::string(event().because) + hint, one.because);
  }
  receive(access_request(99).user("tamu@reef.example").signed_with(secret("laut")));
  EXPECT_EQ(event().because, "nothing is proved, and no access rule with proof = client matches");
  expect_counters_to_add_up();
}

TEST_F(Handle, ANameWithoutRealmGetsTheAssumedOne) {
  receive(access_request().user("budi").password("dermaga-2").signed_with(secret("laut")));
  EXPECT_EQ(reply_code(), Code::access_accept);
}

TEST_F(Handle, ProxyStateComesBackInItsOrder) {  // RFC 2865 §5.33
  receive(access_request()
              .user("x@nowhere.example")
              .with("Proxy-State", "0x01")
              .with("Proxy-State", "0x02")
              .signed_with(secret("laut")));
  std::string seen;
  const auto reject = PacketView::parse(reply());
  for (const auto attribute : reject->attributes()) {
    if (attribute.type == wire::AttributeType::proxy_state) seen += to_hex(attribute.value);
  }
  EXPECT_EQ(seen, "0102");
}

TEST_F(Handle, AHashIsComparedElsewhereAndTheAnswerFollows) {
  receive(access_request().user("sari@reef.example").password("laut-biru-7").signed_with(secret("laut")));
  ASSERT_EQ(out.jobs.size(), 1U);
  EXPECT_TRUE(out.replies.empty());
  EXPECT_EQ(text_of(compare_in(out).typed.reveal()), "laut-biru-7");
  const Ticket ticket = out.jobs[0].ticket;
  out.clear();
  engine.on_done(ticket, Compared{true}, {clock.advance(3ms), out});
  EXPECT_EQ(reply_code(), Code::access_accept);
  EXPECT_EQ(event().took, 3ms);
  out.clear();
  engine.on_done(ticket, Compared{true}, {clock.now(), out});  // too late, twice: nothing happens
  EXPECT_TRUE(out.replies.empty());
  expect_counters_to_add_up();
}

TEST_F(Handle, AnUnreadablePasswordHintsAtTheSecret) {
  receive(access_request().user("tamu@reef.example").password("ombak-3").not_signed(secret("lautan")),
          "192.0.2.66:4000");
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_EQ(event().because,
            "wrong password: it is unreadable with this client's secret, which very likely differs");
}

struct DropCase {
  const char* outcome;
  Octets datagram;
  const char* from = "192.0.2.1:4000";
  std::uint16_t listener = 0;
};

TEST_F(Handle, WhatIsNotGenuineGetsNoAnswer) {
  const auto request = access_request().user("tamu@reef.example").password("ombak-3");
  Octets cut(tamu().begin(), tamu().end() - 1);
  const std::vector<DropCase> cases{
      {"unknown-client", tamu(), "203.0.113.1:4000"},
      {"client-off", tamu(), "192.0.2.77:4000"},
      {"malformed", {1, 2, 3}},
      {"malformed", cut},
      {"wrong-signature", request.signed_with(secret("lautan"))},
      {"unsigned-request", request.not_signed(secret("laut"))},
      {"unsigned-request", access_request().user("a").with("EAP-Message", "x").not_signed(secret("laut")),
       "192.0.2.66:1"},
      {"unsigned-request", status_server().not_signed(secret("laut")), "192.0.2.66:1"},
      {"wrong-code", accounting_request("Start", "s").signed_with(secret("laut"))},
      {"wrong-code", tamu(), "192.0.2.1:4000", 1},
      {"wrong-signature", accounting_request("Start", "s").signed_with(secret("lautan")), "192.0.2.1:4000",
       1},
      {"ignored", access_request().user("a@quiet.example").password("x").signed_with(secret("laut"))},
  };
  for (const DropCase& one : cases) {
    receive(one.datagram, one.from, one.listener);
    EXPECT_EQ(outcome(), one.outcome);
    EXPECT_TRUE(out.replies.empty()) << one.outcome;
  }
  expect_counters_to_add_up();
}

TEST_F(Handle, AClientThatNeedNotSignIsStillCheckedWhenItDoes) {
  receive(tamu(), "192.0.2.66:4000");
  EXPECT_EQ(outcome(), "accepted");
  receive(access_request(8).user("tamu@reef.example").password("ombak-3").signed_with(secret("lautan")),
          "192.0.2.66:4000");
  EXPECT_EQ(outcome(), "wrong-signature");
}

TEST_F(Handle, ProxyStateWithoutSignatureIsNotBelieved) {
  const auto request = access_request().user("tamu@reef.example").password("ombak-3");
  receive(request.not_signed(secret("laut")), "192.0.2.66:4000");
  EXPECT_EQ(outcome(), "accepted");
  receive(access_request(8)
              .user("tamu@reef.example")
              .password("ombak-3")
              .with("Proxy-State", "x")
              .not_signed(secret("laut")),
          "192.0.2.66:4000");
  EXPECT_EQ(outcome(), "unsigned-request");
  EXPECT_EQ(event().because, "Proxy-State without Message-Authenticator, as in forged requests");
}

TEST_F(Handle, StatusServerIsAnsweredOnBothPorts) {  // RFC 5997 §4
  receive(status_server().signed_with(secret("laut")));
  EXPECT_EQ(reply_code(), Code::access_accept);
  account(status_server().signed_with(secret("laut")));
  EXPECT_EQ(reply_code(), Code::accounting_response);
}

TEST_F(Handle, TheSameRequestGetsTheSameOctets) {  // RFC 5080 §2.2.2
  receive(tamu());
  const Octets first(reply().begin(), reply().end());
  clock.advance(5s);
  receive(tamu());
  EXPECT_EQ(outcome(), "repeat-answered");
  EXPECT_EQ(first, Octets(reply().begin(), reply().end()));
}

TEST_F(Handle, ForwardedRequestsAreNewPacketsForTheServer) {
  receive(access_request()
              .user("rani@lagoon.example")
              .password("danau-1")
              .with("NAS-Port", "3")
              .with("Proxy-State", "0xaa")
              .signed_with(secret("laut")));
  keep_asked();
  const auto request = PacketView::parse(asked);
  EXPECT_EQ(wire::check_message_authenticator(*request, request->authenticator(), secret("danau")),
            wire::Signature::valid);
  EXPECT_EQ((*request->attributes().begin()).type, wire::AttributeType::message_authenticator);
  EXPECT_NE(request->authenticator(), PacketView::parse(lagoon())->authenticator());
  const auto password = wire::reveal_password(request->find(wire::AttributeType::user_password)->value,
                                              request->authenticator(), secret("danau"));
  EXPECT_EQ(text_of(*password), "danau-1");
  EXPECT_EQ(value_in(asked, "NAS-Port"), "3");
  EXPECT_EQ(request->count(wire::AttributeType::proxy_state), 2U);
  EXPECT_EQ(value_in(asked, "Proxy-State"), "0xaa");  // the client's own stays in front
}

TEST_F(Handle, TheServersAnswerIsSignedAnewForTheClient) {
  receive(access_request()
              .user("rani@lagoon.example")
              .password("x")
              .with("Proxy-State", "0xaa")
              .signed_with(secret("laut")));
  keep_asked();
  Octets attributes{11, 6, 'c', 'r', 'e', 'w', 33, 3, 0xaa, 33, 4, 1, 2};
  from_server(answer_of(Code::access_accept, "danau", attributes));
  EXPECT_EQ(reply_code(), Code::access_accept);
  EXPECT_EQ(value_in(reply(), "Filter-Id"), "\"crew\"");
  const auto accept = PacketView::parse(reply());
  EXPECT_EQ(accept->count(wire::AttributeType::proxy_state), 1U);
  EXPECT_EQ(accept->count(wire::AttributeType::message_authenticator), 1U);
  EXPECT_EQ(accept->identifier(), 7);
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_EQ(event().server, "lagoon/lagoon-1");
  EXPECT_EQ(engine.in_flight(), 0U);
  expect_counters_to_add_up();
}

TEST_F(Handle, HiddenValuesOfAReplyAreHiddenAnewForTheClient) {  // RFC 2868 §3.5, RFC 2548 §2.4.2
  receive(lagoon());
  keep_asked();
  const auto theirs = PacketView::parse(asked)->authenticator();
  const auto hide = [&](std::string_view value) {
    return *wire::hide_salted(view_of(value), 0x8123, theirs, secret("danau"));
  };
  Octets attributes{69, 21, 2};
  append(attributes, hide("pw"));
  append(attributes, Octets{26, 58, 0, 0, 1, 55, 16, 52});
  append(attributes, hide(std::string(32, 's')));
  from_server(answer_of(Code::access_accept, "danau", attributes));
  ASSERT_EQ(reply_code(), Code::access_accept);
  const auto accept = PacketView::parse(reply());
  const auto ours = PacketView::parse(lagoon())->authenticator();
  const auto tunnel = accept->find(static_cast<wire::AttributeType>(69))->value;
  EXPECT_EQ(tunnel[0], 2);
  EXPECT_EQ(text_of(*wire::reveal_salted(tunnel.subspan(1), ours, secret("laut"))), "pw");
  const auto key = accept->find(wire::AttributeType::vendor_specific)->value.subspan(6);
  EXPECT_EQ(text_of(*wire::reveal_salted(key, ours, secret("laut"))), std::string(32, 's'));
  EXPECT_FALSE(wire::reveal_salted(key, theirs, secret("danau")));
}

TEST_F(Handle, WhatTheDictionariesDoNotKnowPassesThroughByteForByte) {
  const Octets strange{250, 5, 1, 2, 3, 26, 9, 0, 0, 0x7e, 0xd9, 9, 9, 9, 26, 4, 0, 0, 245, 5, 7, 0x80, 1};
  receive(access_request().user("rani@lagoon.example").password("x").raw({}).signed_with(secret("laut")));
  keep_asked();
  from_server(answer_of(Code::access_accept, "danau", strange));
  ASSERT_EQ(reply_code(), Code::access_accept);
  const auto attributes = PacketView::parse(reply())->attribute_octets();
  EXPECT_EQ(to_hex(attributes.subspan(18, strange.size())), to_hex(strange));
}

TEST_F(Handle, AChallengePassesThroughWithItsState) {
  receive(lagoon());
  keep_asked();
  from_server(answer_of(Code::access_challenge, "danau", {24, 4, 9, 9}));
  EXPECT_EQ(reply_code(), Code::access_challenge);
  EXPECT_EQ(value_in(reply(), "State"), "0x0909");
  EXPECT_EQ(outcome(), "challenged");
}

TEST_F(Handle, RepliesThatAreNotGenuineAreThrownAwayAndTheRightOneStillCounts) {
  receive(lagoon());
  keep_asked();
  from_server(answer_of(Code::access_accept, "wrong"));
  EXPECT_EQ(outcome(), "reply-not-genuine");
  from_server(answer_of(Code::access_accept, "danau", {}, false));
  EXPECT_EQ(outcome(), "reply-not-genuine");
  EXPECT_EQ(event().because, "no Message-Authenticator, which the plan requires of this server");
  from_server(answer_of(Code::accounting_response, "danau"));
  EXPECT_EQ(outcome(), "reply-malformed");
  from_server({1, 2, 3});
  EXPECT_EQ(outcome(), "reply-malformed");
  from_server(answer_of(Code::access_accept, "danau"), "198.51.100.9:1812");
  EXPECT_EQ(outcome(), "reply-unexpected");
  from_server(answer_of(Code::access_accept, "danau"));
  EXPECT_EQ(reply_code(), Code::access_accept);
  from_server(answer_of(Code::access_accept, "danau"));
  EXPECT_EQ(outcome(), "reply-unexpected");
  expect_counters_to_add_up();
}

TEST_F(Handle, ASilentServerIsAskedAgainWithTheSameOctetsThenGivenUp) {
  receive(lagoon());
  keep_asked();
  silence();
  ASSERT_EQ(out.asks.size(), 1U);
  const OctetView again = out.view(out.asks[0].packet);
  EXPECT_EQ(asked, Octets(again.begin(), again.end()));
  silence(2);
  EXPECT_EQ(outcome(), "no-answer");
  EXPECT_EQ(event().detail, "group lagoon: lagoon-1 is silent");
  EXPECT_TRUE(out.replies.empty());
  EXPECT_FALSE(engine.next_deadline());
  receive(lagoon());  // the client tries again: a new attempt
  EXPECT_EQ(out.asks.size(), 1U);
  expect_counters_to_add_up();
}

TEST_F(Handle, AGroupCanRefuseWhenItIsSilent) {
  receive(access_request().user("ani@island.example").password("x").signed_with(secret("laut")));
  keep_asked();
  EXPECT_EQ(value_in(asked, "User-Name"), "\"ani\"");  // strip = true
  silence();
  EXPECT_EQ(reply_code(), Code::access_reject);
  EXPECT_EQ(event().because, "no server answered");
}

TEST_F(Handle, ARepeatWaitsForTheAnswerOfTheFirst) {
  receive(lagoon());
  keep_asked();
  receive(lagoon());
  EXPECT_EQ(outcome(), "repeat-waiting");
  EXPECT_TRUE(out.asks.empty());
  from_server(answer_of(Code::access_accept, "danau"));
  EXPECT_EQ(out.replies.size(), 1U);
  expect_counters_to_add_up();
}

TEST_F(Handle, ANewRequestWithTheSameIdentifierSupersedesTheOne) {
  receive(lagoon());
  keep_asked();
  receive(access_request(7)
              .authenticator(200)
              .user("rani@lagoon.example")
              .password("y")
              .signed_with(secret("laut")));
  EXPECT_EQ(out.asks.size(), 1U);
  EXPECT_EQ(outcome(), "superseded");
  EXPECT_EQ(engine.in_flight(), 1U);
  from_server(answer_of(Code::access_accept, "danau"));  // to the first
  EXPECT_TRUE(out.replies.empty());
  EXPECT_EQ(outcome(), "reply-unexpected");
  expect_counters_to_add_up();
}

TEST_F(Handle, AResultThatNeverComesEndsTheRequest) {
  const Octets sari = access_request().user("sari@reef.example").password("x").signed_with(secret("laut"));
  receive(sari);
  const Ticket ticket = out.jobs.at(0).ticket;
  EXPECT_EQ(engine.next_deadline(), clock.now().steady + 30s);
  wait(30000ms);
  EXPECT_EQ(outcome(), "overloaded");
  EXPECT_EQ(event().because, "it was not done in time");
  EXPECT_EQ(engine.in_flight(), 0U);
  EXPECT_EQ(counters.late_count(), 0U);
  engine.on_done(ticket, Compared{true}, {clock.now(), out});
  EXPECT_EQ(counters.late_count(), 1U);
  EXPECT_EQ(out.replies.size(), 0U);
  receive(sari);  // nobody is held up by what was never known
  EXPECT_EQ(out.jobs.size(), 1U);
  expect_counters_to_add_up();
}

TEST_F(Handle, WhereNobodyHasRoomForAStoryNoneIsMade) {
  std::atomic<bool> no_stories{true};
  Settings settings{{{forward::Purpose::access, {}}}, 256, std::chrono::milliseconds(10000), 64};
  settings.no_stories = &no_stories;
  Engine busy(settings, random, counters);
  busy.use(board.go_live(support::plan_of(kPlan), 1), {clock.now(), out});
  const auto ask = [&](std::uint8_t identifier) -> const Event& {
    out.clear();
    busy.handle({0,
                 *Endpoint::parse("192.0.2.1:4000", 0),
                 {},
                 access_request(identifier)
                     .user("tamu@reef.example")
                     .password("ombak-3")
                     .signed_with(secret("laut"))},
                {clock.now(), out});
    return event();
  };
  EXPECT_TRUE(ask(1).untold);
  EXPECT_EQ(event().story, nullptr);
  EXPECT_EQ(reply_code(), Code::access_accept);
  no_stories = false;
  EXPECT_FALSE(ask(2).untold);
  EXPECT_NE(event().story, nullptr);
}

TEST_F(Handle, ACancelledProofIsNotCountedAsWrong) {
  for (std::uint8_t i = 0; i < 40; ++i) {
    receive(access_request(1)
                .authenticator(i)
                .user("sari@reef.example")
                .password("x")
                .signed_with(secret("laut")));
    ASSERT_EQ(out.jobs.size(), 1U) << int{i};
  }
  EXPECT_EQ(engine.in_flight(), 1U);
  expect_counters_to_add_up();
}

TEST_F(Handle, AClientThatThePlanLosesGetsNoAnswerAnyMore) {
  receive(lagoon());
  keep_asked();
  out.clear();
  engine.use(board.go_live(support::plan_of(""), 1), {clock.now(), out});
  EXPECT_EQ(outcome(), "unknown-client");
  EXPECT_EQ(engine.in_flight(), 0U);
  from_server(answer_of(Code::access_accept, "danau"));
  EXPECT_TRUE(out.replies.empty());
  expect_counters_to_add_up();
}

TEST_F(Handle, APasswordGoesOnWithoutAChallenge) {
  receive(lagoon());
  keep_asked();
  EXPECT_EQ(value_in(asked, "CHAP-Challenge"), "(none)");
}

TEST_F(Handle, ChapWithoutChallengeTakesTheAuthenticatorAlong) {  // RFC 2865 §5.40
  const Octets request = access_request()
                             .user("rani@lagoon.example")
                             .with("CHAP-Password", "0x0102030405060708090a0b0c0d0e0f1011")
                             .signed_with(secret("laut"));
  receive(request);
  keep_asked();
  EXPECT_EQ(value_in(asked, "CHAP-Challenge"),
            "0x" + to_hex(OctetView(PacketView::parse(request)->authenticator())));
}

constexpr const char* kNoRealms = R"(
[[client]]
name = "gate"
address = "192.0.2.0/24"
secret = "laut"
)";

TEST_F(Handle, RequestsUnderWayEndWithThePlanTheyBeganWith) {
  receive(lagoon());
  keep_asked();
  engine.use(board.go_live(support::plan_of(kNoRealms), 1), {clock.now(), out});
  from_server(answer_of(Code::access_accept, "danau"));
  EXPECT_EQ(reply_code(), Code::access_accept);
  receive(lagoon(8));
  EXPECT_EQ(event().because, "no realm of the plan matches");
}

TEST_F(Handle, TooManyUnderWayAreCountedNotKept) {
  for (std::uint8_t id = 0; id < 64; ++id) receive(lagoon(id));
  receive(lagoon(64));
  EXPECT_EQ(outcome(), "overloaded");
  expect_counters_to_add_up();
}

TEST_F(Handle, StoppingEndsEverythingUnderWay) {
  receive(lagoon(1));
  receive(lagoon(2));
  out.clear();
  engine.stop({clock.now(), out});
  EXPECT_EQ(out.events.size(), 2U);
  EXPECT_EQ(outcome(), "stopped");
  EXPECT_EQ(engine.in_flight(), 0U);
  EXPECT_FALSE(engine.next_deadline());
  expect_counters_to_add_up();
}

// Places are used again, so that their order is not the one in which requests came.
TEST_F(Handle, StoppingEndsWhatWaitsInTheOrderInWhichItCame) {
  receive(lagoon(1));
  keep_asked();
  for (const std::uint8_t id : {2, 3}) {
    clock.advance(1ms);
    receive(lagoon(id));
  }
  from_server(answer_of(Code::access_accept, "danau"));  // to the first, whose place is free now
  clock.advance(1ms);
  receive(lagoon(4));
  out.clear();
  engine.stop({clock.now(), out});
  std::vector<int> ended;
  for (const Event& one : out.events) ended.push_back(one.identifier);
  EXPECT_EQ(ended, (std::vector<int>{2, 3, 4}));
}

TEST_F(Handle, AccountingIsAnsweredWhenTheRecordIsKept) {  // RFC 2866 §4.2
  const Octets start = accounting_request("Start", "s1")
                           .user("tamu@reef.example")
                           .with("Proxy-State", "0xbb")
                           .signed_with(secret("laut"));
  account(start);
  EXPECT_TRUE(out.replies.empty());
  ASSERT_EQ(out.jobs.size(), 1U);
  EXPECT_EQ(accounting::taken_apart(record_in(out).incoming.arrival).session_id, "s1");
  EXPECT_EQ(record_in(out).incoming.arrival.realm, "reef.example");
  EXPECT_TRUE(record_in(out).incoming.groups.empty());
  const Ticket ticket = out.jobs.at(0).ticket;
  account(start);
  EXPECT_EQ(outcome(), "repeat-waiting");
  out.clear();
  engine.on_done(ticket, accounting::Kept{1, false}, {clock.now(), out});
  EXPECT_EQ(reply_code(), Code::accounting_response);
  EXPECT_EQ(value_in(reply(), "Proxy-State"), "0xbb");
  EXPECT_TRUE(wire::verify_response(*PacketView::parse(reply()), PacketView::parse(start)->authenticator(),
                                    secret("laut")));
  expect_counters_to_add_up();
}

TEST_F(Handle, AccountingThatTheStoreRefusesIsNotAnsweredAndMayComeAgain) {
  const Octets start =
      accounting_request("Start", "s1").user("tamu@reef.example").signed_with(secret("laut"));
  account(start);
  const Ticket ticket = out.jobs.at(0).ticket;
  out.clear();
  engine.on_done(ticket, fail(Errc::io, "store: disk full"), {clock.now(), out});
  EXPECT_TRUE(out.replies.empty());
  EXPECT_EQ(outcome(), "not-recorded");
  EXPECT_EQ(event().detail, "store: disk full");
  account(start);
  EXPECT_EQ(out.jobs.size(), 1U);
}

TEST_F(Handle, AccountingOfAForwardedRealmIsForItsGroupToo) {
  account(accounting_request("Start", "s1").user("rani@lagoon.example").signed_with(secret("laut")));
  ASSERT_EQ(out.jobs.size(), 1U);
  EXPECT_TRUE(record_in(out).incoming.keep);
  EXPECT_EQ(record_in(out).incoming.groups, std::vector<std::string>{"lagoon"});
  account(accounting_request("Start", "s2", 10).user("x@nowhere.example").signed_with(secret("laut")));
  EXPECT_TRUE(record_in(out).incoming.groups.empty());  // kept here all the same
}

TEST_F(Handle, AccountingWithoutItsPartsIsMalformed) {
  account(support::RequestBuilder(Code::accounting_request, 1)
              .user("tamu@reef.example")
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "malformed");
  EXPECT_EQ(event().detail, "no Acct-Status-Type of 4 octets");
}

TEST_F(Handle, RandomDatagramsAlwaysEndInOneOutcome) {
  support::FixedRandom noise(99);
  for (int i = 0; i < 20000; ++i) {
    Octets datagram(noise.below(200));
    noise.fill(datagram);
    if (datagram.size() > 4 && noise.below(2) == 0) {
      datagram[0] = static_cast<std::uint8_t>(noise.below(14));
      store16(&datagram[2], static_cast<std::uint16_t>(datagram.size()));
    }
    receive(datagram, noise.below(2) == 0 ? "192.0.2.66:9" : "192.0.2.1:9",
            static_cast<std::uint16_t>(noise.below(2)));
  }
  expect_counters_to_add_up();
}

constexpr const char* kRotating = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "baru"
old_secret = "lama"
old_secret_until = "2026-09-22T00:00:00Z"
[[client]]
name = "slow"
address = "198.51.100.0/24"
secret = "laut"
requests_per_second = 5
listeners = ["access"]
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
[[realm]]
name = "reef.example"
handle = "here"
)";

class Rotating : public Handle {
 protected:
  Rotating() {
    live = board.go_live(support::plan_of(kRotating), 2);
    engine.use(live, {clock.now(), out});
  }
  std::string sign_in_with(std::string_view with, std::uint8_t identifier) {
    request =
        access_request(identifier).user("tamu@reef.example").password("ombak-3").signed_with(secret(with));
    receive(request);
    return outcome();
  }
  bool reply_is_signed_with(std::string_view with) const {
    return wire::verify_response(*PacketView::parse(reply()), PacketView::parse(request)->authenticator(),
                                 secret(with));
  }
  Octets request;
  forward::LivePlanPtr live;
};

TEST_F(Rotating, BothSecretsAreValidAndItIsKnownWhichWasUsed) {
  const auto& activity = live->activity_of(live->plan->clients[0]);
  EXPECT_EQ(sign_in_with("lama", 1), "accepted");
  EXPECT_TRUE(reply_is_signed_with("lama"));
  EXPECT_TRUE(activity.last_verified(plan::WhichSecret::old));
  EXPECT_FALSE(activity.last_verified(plan::WhichSecret::current));
  EXPECT_EQ(sign_in_with("baru", 2), "accepted");
  EXPECT_TRUE(reply_is_signed_with("baru"));
  EXPECT_EQ(activity.last_verified(plan::WhichSecret::current), clock.now().wall);
  EXPECT_EQ(sign_in_with("laut", 3), "wrong-signature");
}

TEST_F(Rotating, TheOldSecretEndsAtItsDate) {
  EXPECT_EQ(sign_in_with("lama", 1), "accepted");
  clock.advance(24h);
  EXPECT_EQ(sign_in_with("lama", 2), "wrong-signature");
  EXPECT_EQ(sign_in_with("baru", 3), "accepted");
}

TEST_F(Rotating, AccountingWithTheOldSecretIsKept) {
  account(accounting_request("Start", "s1").user("tamu@reef.example").signed_with(secret("lama")));
  EXPECT_EQ(out.jobs.size(), 1U);
}

TEST_F(Rotating, WhatIsKnownOfAClientOutlivesAChange) {
  EXPECT_EQ(sign_in_with("lama", 1), "accepted");
  const auto next = board.go_live(live->plan, 3);
  EXPECT_TRUE(next->activity_of(next->plan->clients[0]).last_verified(plan::WhichSecret::old));
}

TEST_F(Rotating, AClientStaysOnItsListeners) {
  receive(accounting_request("Start", "s1").signed_with(secret("laut")), "198.51.100.7:4000", 1);
  EXPECT_EQ(outcome(), "wrong-listener");
}

TEST_F(Rotating, RequestsBeyondTheLimitAreDroppedUntilTimeHasPassed) {
  int accepted = 0;
  for (std::uint8_t i = 0; i < 20; ++i) {
    receive(access_request(i).user("tamu@reef.example").password("ombak-3").signed_with(secret("laut")),
            "198.51.100.7:4000");
    accepted += outcome() == "accepted" ? 1 : 0;
  }
  EXPECT_EQ(accepted, 5);
  EXPECT_EQ(outcome(), "over-limit");
  clock.advance(400ms);
  receive(access_request(90).user("tamu@reef.example").password("ombak-3").signed_with(secret("laut")),
          "198.51.100.7:4000");
  EXPECT_EQ(outcome(), "accepted");
}

constexpr const char* kRules = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
labels = { kind = "wireless" }
[[user]]
name = "sari@reef.example"
password = { clear = "laut-biru-7" }
groups = ["crew"]
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
[[realm]]
name = "reef.example"
handle = "here"
[[group]]
name = "lagoon"
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[route]]
name = "printers"
when = 'User-Name starts with "printer"'
handle = "refuse"
message = "Printers stay ashore."
for = ["access"]
[[route]]
name = "test network"
when = 'NAS-IP-Address in 203.0.113.0/24'
handle = "group:lagoon"
[[route]]
name = "noise"
when = 'NAS-Identifier == "noise"'
handle = "ignore"
[[access]]
name = "console"
when = 'NAS-Port-Type == Virtual'
permit = false
message = "Not here."
[[access]]
name = "crew"
when = 'member of "crew" and client.label.kind == "wireless"'
permit = true
reply = { vlan = 30 }
)";

constexpr const char* kTunnel = R"(
[[client]]
name = "gate"
address = "192.0.2.0/24"
secret = "laut"
[realm_default]
missing = "here"
[[user]]
name = "sari"
password = { clear = "laut-biru-7" }
reply = { "Tunnel-Password[1]" = ["terowong-satu", "terowong-dua"] }
[[access]]
name = "all"
permit = true
reply = { "Tunnel-Password[2]" = "not taken", Filter-Id = "crew" }
)";

// RFC 2868 §3.5
TEST_F(Handle, HiddenAttributesOfAReplyAreHiddenForTheClient) {
  engine.use(board.go_live(support::plan_of(kTunnel), 2), {clock.now(), out});
  const Octets sent = access_request().user("sari").password("laut-biru-7").signed_with(secret("laut"));
  receive(sent);
  const wire::Authenticator request = PacketView::parse(sent)->authenticator();
  std::string opened;
  std::set<std::string> salts;
  const auto accept = PacketView::parse(reply());
  for (const auto attribute : accept->attributes()) {
    if (attribute.type != static_cast<wire::AttributeType>(69)) continue;
    salts.insert(to_hex(attribute.value.subspan(1, 2)));
    const auto value = wire::reveal_salted(attribute.value.subspan(1), request, secret("laut"));
    ASSERT_TRUE(value);
    opened += std::to_string(attribute.value[0]) + " " + std::string(text_of(*value)) + "; ";
  }
  EXPECT_EQ(opened, "1 terowong-satu; 1 terowong-dua; ");
  EXPECT_EQ(salts.size(), 2U);
  EXPECT_THAT(support::kept_entry(event()).trail,
              testing::Contains("reply: Tunnel-Password[1] (hidden, 18 octets)  from user 'sari'"));
}

constexpr const char* kEdits = R"(
[[client]]
name = "gate"
address = "192.0.2.0/24"
secret = "laut"
[[user]]
name = "sari@reef.example"
password = { clear = "laut-biru-7" }
reply = { Class = "{NAS-Identifier}" }
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
[[edit]]
name = "badge in front"
at = "received"
for = ["access"]
rewrite = { User-Password = '^(?P<badge>[0-9]{4})(?P<rest>.*)$' }
set = { User-Password = "{match.rest}", NAS-Identifier = "gate-7" }
[[edit]]
name = "where from"
at = "forwarding"
when = 'group == "lagoon" and server == "lagoon-1"'
add = { Filter-Id = "via {client}", "Tunnel-Password[1]" = "tersembunyi" }
remove = ["Calling-Station-Id"]
[[edit]]
name = "no VLAN of theirs"
at = "answered"
when = 'code == Access-Accept'
remove = ["Tunnel-Private-Group-ID"]
rename = { Filter-Id = "Class" }
[[edit]]
name = "greet"
at = "replying"
when = 'code == Access-Accept'
set = { Reply-Message = "Hello {user}." }
)";

class Edited : public Handle {
 protected:
  Edited() { engine.use(board.go_live(support::plan_of(kEdits), 2), {clock.now(), out}); }
};

TEST_F(Edited, AsReceivedAlsoWhatIsHidden) {
  receive(
      access_request(1).user("sari@reef.example").password("1234laut-biru-7").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_EQ(support::value_in(reply(), "Class"), "0x676174652d37");  // gate-7
  EXPECT_EQ(support::value_in(reply(), "Reply-Message"), "\"Hello sari.\"");
  EXPECT_THAT(
      support::kept_entry(event()).trail,
      testing::Contains("edit 1 'badge in front' (received): set User-Password (hidden, 16 octets), set "
                        "NAS-Identifier \"gate-7\""));
  receive(access_request(5).user("sari@reef.example").password("1234").signed_with(secret("laut")));
  EXPECT_EQ(event().detail, "the password is empty");
  receive(access_request(2).user("sari@reef.example").password("laut-biru-7").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");  // no badge: the edit is not done
  EXPECT_EQ(support::value_in(reply(), "Class"), "(none)");
}

TEST_F(Edited, BeforeForwardingAndAsAnswered) {
  receive(access_request(3)
              .user("rani@lagoon.example")
              .password("1234danau-9")
              .with("Calling-Station-Id", "02-00-5E-00-53-01")
              .signed_with(secret("laut")));
  keep_asked();
  EXPECT_EQ(support::value_in(asked, "Filter-Id"), "\"via gate\"");
  EXPECT_EQ(support::value_in(asked, "Calling-Station-Id"), "(none)");
  const auto packet = *PacketView::parse(asked);
  const auto password = wire::reveal_password(packet.find(wire::AttributeType::user_password)->value,
                                              packet.authenticator(), secret("danau"));
  EXPECT_EQ(text_of(*password), "danau-9");
  const auto tunnel = packet.find(static_cast<wire::AttributeType>(69));
  ASSERT_TRUE(tunnel);
  const auto opened = wire::reveal_salted(tunnel->value.subspan(1), packet.authenticator(), secret("danau"));
  EXPECT_EQ(text_of(*opened), "tersembunyi");
  Octets attributes = *dictionary::encode(dictionary::standard(), "Tunnel-Private-Group-ID", "\"66\"");
  append(attributes, *dictionary::encode(dictionary::standard(), "Class", "0x6c61676f6f6e"));
  from_server(answer_of(Code::access_accept, "danau", attributes));
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_EQ(support::value_in(reply(), "Tunnel-Private-Group-ID"), "(none)");
  EXPECT_EQ(support::value_in(reply(), "Class"), "0x6c61676f6f6e");
  EXPECT_EQ(support::value_in(reply(), "Reply-Message"), "\"Hello rani.\"");
  EXPECT_EQ(event().story->given.size(), 2U);
  EXPECT_THAT(support::kept_entry(event()).trail,
              testing::Contains(testing::HasSubstr("removed Tunnel-Private-Group-ID")));
  expect_counters_to_add_up();
}

TEST_F(Handle, WrongPasswordsInARowAreSlowedDown) {
  const auto attempt = [this](std::uint8_t id, const char* password) {
    receive(access_request(id).user("tamu@reef.example").password(password).signed_with(secret("laut")));
    return std::string(event().because);
  };
  for (std::uint8_t i = 0; i < 10; ++i) EXPECT_EQ(attempt(i, "wrong"), "wrong password");
  EXPECT_EQ(attempt(10, "ombak-3"), "too many wrong passwords in a row");
  EXPECT_EQ(event().detail, "looked at again in 1s");
  clock.advance(1s);
  EXPECT_EQ(attempt(11, "ombak-3"), "password matches");
  EXPECT_EQ(attempt(12, "wrong"), "wrong password");
}

TEST_F(Handle, ARequestThatProvesNothingIsBelievedWhereARuleSaysSo) {
  engine.use(board.go_live(support::plan_of(std::string(kPlan) + R"(
[[access]]
name = "gateway"
proof = "client"
permit = true
reply = { vlan = 30 }
)"),
                           2),
             {clock.now(), out});
  receive(access_request(1).user("guest@reef.example").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_EQ(support::value_in(reply(), "Tunnel-Private-Group-ID"), "\"30\"");
  receive(access_request(2).user("lama@reef.example").signed_with(secret("laut")));
  EXPECT_EQ(event().because, "the user is switched off");
  receive(access_request(3).user("tamu@reef.example").password("ombak-3").signed_with(secret("laut")));
  EXPECT_EQ(event().because, "no access rule matches");
  receive(access_request(4).user("guest@reef.example").not_signed(secret("laut")), "192.0.2.66:4000");
  EXPECT_EQ(event().because, "neither a credential nor Message-Authenticator (RFC 3579 §3.3)");
  EXPECT_TRUE(out.replies.empty());
}

class RulesOfAPlan : public Handle {
 protected:
  RulesOfAPlan() { engine.use(board.go_live(support::plan_of(kRules), 2), {clock.now(), out}); }
};

TEST_F(RulesOfAPlan, TheFirstAccessRuleThatMatchesDecides) {
  receive(access_request(1).user("sari@reef.example").password("laut-biru-7").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_EQ(value_in(reply(), "Tunnel-Private-Group-ID"), "\"30\"");
  EXPECT_EQ(event().detail, "crew");
  receive(access_request(2)
              .user("sari@reef.example")
              .password("laut-biru-7")
              .with("NAS-Port-Type", "Virtual")
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(value_in(reply(), "Reply-Message"), "\"Not here.\"");
}

TEST_F(RulesOfAPlan, NothingMatchedMeansNo) {
  receive(access_request(1).user("tamu@reef.example").password("ombak-3").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(event().because, "no access rule matches");
}

TEST_F(RulesOfAPlan, AWrongPasswordIsRefusedBeforeTheRules) {
  receive(access_request(1).user("sari@reef.example").password("wrong").signed_with(secret("laut")));
  EXPECT_EQ(event().because, "wrong password");
}

TEST_F(RulesOfAPlan, RoutesDecideBeforeTheRealms) {
  receive(access_request(1).user("printer@reef.example").password("x").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(value_in(reply(), "Reply-Message"), "\"Printers stay ashore.\"");
  EXPECT_EQ(event().detail, "printers");
  receive(access_request(2)
              .user("sari@reef.example")
              .with("NAS-IP-Address", "203.0.113.7")
              .signed_with(secret("laut")));
  EXPECT_EQ(out.asks.size(), 1U);
  receive(access_request(3)
              .user("sari@reef.example")
              .with("NAS-Identifier", "noise")
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "ignored");
}

TEST_F(RulesOfAPlan, AccountingFollowsItsRoutes) {
  account(accounting_request("Start", "s1", 1)
              .user("x@reef.example")
              .with("NAS-IP-Address", "203.0.113.7")
              .signed_with(secret("laut")));
  ASSERT_EQ(out.jobs.size(), 1U);
  EXPECT_EQ(record_in(out).incoming.groups, std::vector<std::string>{"lagoon"});
  account(accounting_request("Start", "s2", 2).user("printer@reef.example").signed_with(secret("laut")));
  EXPECT_EQ(out.jobs.size(), 1U);  // that route is for access alone
  account(accounting_request("Start", "s3", 3)
              .user("x@reef.example")
              .with("NAS-Identifier", "noise")
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "ignored");
}

constexpr const char* kMethods = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[user]]
name = "User"
password = { clear = "clientPass" }
[[user]]
name = "kept-as-nt"
password = { nt = "44ebba8d5312b8d611474411f56989ae" }
[[user]]
name = "kept-as-hash"
password = { hash = "$6$jembatan$l9sAIiCcOmx6wr0FUMEmaety7rOcqVTnJFU1HU23aRnlWkp/Z6ajAvSu5OAgdt4j5OCr1/.HShCTyZvJ4oJYv1" }
[realm_default]
missing = "here"
[[access]]
name = "no old methods"
when = 'NAS-Port-Type == Virtual'
permit = true
methods = ["ms-chap-v2"]
[[access]]
name = "all"
permit = true
)";

class Methods : public Handle {
 protected:
  Methods() { engine.use(board.go_live(support::plan_of(kMethods), 2), {clock.now(), out}); }

  static std::string hex_of(OctetView octets) { return "0x" + to_hex(octets); }
  // The exchange of RFC 2759 §9.2.
  static support::RequestBuilder version_2(
      std::string_view user,
      const std::string& response = "82309ecd8d708b5ea08faa3981cd83544233114a3d85d6df") {
    return access_request(++next)
        .user(user)
        .with("MS-CHAP-Challenge", "0x5B5D7C7D7B3F2F3E3C2C602132262628")
        .with("MS-CHAP2-Response", "0x070021402324255E262A28295F2B3A337C7E0000000000000000" + response);
  }
  static inline std::uint8_t next = 100;  // apart from what the tests choose themselves
};

TEST_F(Methods, MsChapVersion2IsProvedAndProvesTheServer) {  // RFC 2759, RFC 2548 §2.3
  receive(version_2("User").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  const std::string success = "S=407A5589115FD0D6209F510FE9C04566932CDA56";
  const std::string text(text_of(reply()));
  EXPECT_NE(text.find("\x07" + success), std::string::npos);
  // Vendor 311, MS-MPPE-Send-Key (16): hidden under the client's secret.
  const Octets head = *from_hex(
      "1a2a00000137"
      "1024");
  EXPECT_NE(text.find(std::string(text_of(head))), std::string::npos);
}

TEST_F(Methods, MsChapVersion2WithAnotherPasswordGetsItsError) {
  receive(version_2("User", "00309ecd8d708b5ea08faa3981cd83544233114a3d85d6df").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(event().because, "wrong password (MS-CHAP version 2)");
  EXPECT_NE(text_of(reply()).find("E=691 R=0 C="), std::string_view::npos);
}

TEST_F(Methods, MsChapVersion1IsProvedFromAnNtHash) {  // RFC 2433
  const auto hash = *identity::nt_hash(view_of("clientPass"));
  const std::array<std::uint8_t, 8> challenge{1, 2, 3, 4, 5, 6, 7, 8};
  const std::string response =
      "0x0901" + std::string(48, '0') + to_hex(identity::nt_response(challenge, hash));
  receive(access_request(1)
              .user("kept-as-nt")
              .with("MS-CHAP-Challenge", hex_of(challenge))
              .with("MS-CHAP-Response", response)
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
}

TEST_F(Methods, ChapIsProvedWithEitherChallenge) {  // RFC 2865 §2.2
  const Octets challenge = *from_hex("0102030405060708");
  const auto answer = [](OctetView of) {
    return "0x05" + to_hex(identity::chap_response(5, view_of("clientPass"), of));
  };
  receive(access_request(1)
              .user("User")
              .with("CHAP-Challenge", hex_of(challenge))
              .with("CHAP-Password", answer(challenge))
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  std::array<std::uint8_t, 16> authenticator{};
  std::iota(authenticator.begin(), authenticator.end(), std::uint8_t{0x42});
  receive(access_request(2)
              .authenticator(0x42)
              .user("User")
              .with("CHAP-Password", answer(authenticator))
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
  receive(access_request(3)
              .user("User")
              .with("CHAP-Challenge", "0xff01020304")
              .with("CHAP-Password", answer(challenge))
              .signed_with(secret("laut")));
  EXPECT_EQ(event().because, "wrong password (CHAP)");
}

TEST_F(Methods, WhatIsKeptMustSuitTheMethod) {
  receive(version_2("kept-as-hash").signed_with(secret("laut")));
  EXPECT_EQ(event().because, "MS-CHAP needs the password or its NT hash, and another hash is kept");
  receive(access_request(1)
              .user("kept-as-nt")
              .with("CHAP-Password", "0x05" + std::string(32, '0'))
              .signed_with(secret("laut")));
  EXPECT_EQ(event().because, "CHAP needs the password itself, and only a hash of it is kept");
  receive(access_request(2).user("kept-as-nt").password("clientPass").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
}

TEST_F(Methods, PasswordsAreNotChangedHere) {
  receive(access_request(1)
              .user("User")
              .with("MS-CHAP2-CPW", "0x0708" + std::string(132, '0'))
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(event().because, "passwords are not changed here");
  EXPECT_NE(text_of(reply()).find("\x08"
                                  "E=709"),
            std::string_view::npos);
}

TEST_F(Methods, AnAccessRuleAcceptsTheMethodsItNames) {
  receive(access_request(1)
              .user("User")
              .password("clientPass")
              .with("NAS-Port-Type", "Virtual")
              .signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(event().because, "the access rule does not accept the method");
  receive(version_2("User").with("NAS-Port-Type", "Virtual").signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "accepted");
}

TEST_F(Methods, AnswersOfAnyLengthAreRefusedNotRead) {
  for (const std::size_t size : {0U, 2U, 20U, 49U, 51U, 100U}) {
    receive(access_request(static_cast<std::uint8_t>(size))
                .user("User")
                .with("MS-CHAP-Challenge", "0x00")
                .with("MS-CHAP2-Response", "0x" + std::string(2 * size, '1'))
                .signed_with(secret("laut")));
    EXPECT_EQ(outcome(), "rejected") << size;
  }
}

}  // namespace
}  // namespace jembatan::engine
