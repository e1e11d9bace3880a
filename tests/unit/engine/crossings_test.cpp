// What one dead or slow neighbour may take from the others (issue 10, 3.4).
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "unit/engine/one_node.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::access_request;
using support::secret;
using testing::HasSubstr;

class Neighbours : public Handle {
 protected:
  const Actions& ask(int number, std::string_view user) {
    const auto octets = access_request(static_cast<std::uint8_t>(number))
                            .authenticator(static_cast<std::uint8_t>(number / 256))
                            .user(user)
                            .password("ombak-3")
                            .signed_with(secret("laut"));
    return receive(octets, ("192.0.2.1:" + std::to_string(4000 + number)).c_str());
  }
};

TEST_F(Neighbours, ASilentGroupTakesHalfOfTheRoomAtTheMost) {  // 64 may wait, 48 of them for servers
  for (int i = 0; i < 100; ++i) ask(i, "rani@lagoon.example");
  EXPECT_EQ(outcome(), "overloaded");
  EXPECT_THAT(event().detail,
              HasSubstr("24 requests wait for group lagoon, 50 % of all that may wait (group_share)"));
  ask(200, "x@island.example");
  EXPECT_EQ(out.asks.size(), 1U);
  ask(201, "sari@reef.example");  // a proof on the pool
  EXPECT_EQ(out.jobs.size(), 1U);
  EXPECT_EQ(
      account(support::accounting_request("Start", "s1").user("x@lagoon.example").signed_with(secret("laut")))
          .jobs.size(),
      1U);
}

TEST_F(Neighbours, AGroupThatIsDownAnswersAtOnceButForAFewTrials) {
  for (int i = 0; i < 12; ++i) ask(i, "x@island.example");  // answers within 1 s, one attempt
  wait(1000ms);
  for (int i = 20; i < 40; ++i) ask(i, "x@island.example");
  EXPECT_EQ(outcome(), "rejected");  // when_silent = "refuse"
  EXPECT_THAT(event().detail, HasSubstr("is down since"));
  EXPECT_LE(engine.in_flight(), 8U);
}

TEST_F(Neighbours, ASlowSoleServerIsAskedToTheEnd) {
  for (int i = 0; i < 10; ++i) ask(i, "rani@lagoon.example");
  wait(1000ms);
  wait(1000ms);  // two attempts each: by now it counts as down
  ask(50, "rani@lagoon.example");
  keep_asked();
  wait(1000ms);
  EXPECT_EQ(out.asks.size(), 1U);  // and is asked again all the same
  from_server(answer_of(wire::Code::access_accept, "danau"));
  EXPECT_EQ(outcome(), "accepted");
}

TEST_F(Neighbours, ALateAnswerOfTheServerBeforeIsUsed) {
  engine.use(board.go_live(support::plan_of(R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
[[group]]
name = "lagoon"
answer_within = "1s"
attempts = 1
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[group.server]]
name = "lagoon-2"
address = "198.51.100.2"
secret = "danau"
priority = 2
)"),
                           2),
             {clock.now(), out});
  ask(1, "rani@lagoon.example");
  keep_asked();
  wait(1000ms);
  ASSERT_EQ(out.asks.size(), 1U);
  EXPECT_EQ(out.asks[0].to.text(), "198.51.100.2:1812");
  from_server(answer_of(wire::Code::access_accept, "danau"));
  EXPECT_EQ(outcome(), "accepted");
  EXPECT_EQ(event().server, "lagoon/lagoon-1");
}

TEST_F(Neighbours, WhatCannotBeForwardedIsMalformedNotOverload) {
  ask(1, "rani@lagoon.example");
  receive(access_request(2).user("rani@lagoon.example").plus({2, 5, 1, 2, 3}).signed_with(secret("laut")));
  EXPECT_EQ(outcome(), "malformed");
  EXPECT_THAT(std::string(event().because), HasSubstr("could not be forwarded"));
}

TEST_F(Neighbours, AReplyBeyondAPacketHasAnOutcomeOfItsOwn) {
  Octets states;
  for (int i = 0; i < 12; ++i) {
    states.push_back(33);
    states.push_back(255);
    states.resize(states.size() + 253, 7);
  }
  receive(access_request(1).user("x@island.example").plus(states).signed_with(secret("laut")));
  ASSERT_EQ(out.asks.size(), 1U);
  keep_asked();
  Octets large;
  for (int i = 0; i < 8; ++i) {
    large.push_back(25);
    large.push_back(255);
    large.resize(large.size() + 253, 1);
  }
  from_server(answer_of(wire::Code::access_accept, "pulau", large), "198.51.100.2:1812");
  EXPECT_EQ(outcome(), "reply-too-long");
  EXPECT_EQ(counters.count(Outcome::reply_too_long), 1U);
}

TEST_F(Neighbours, AnAnswerThatComesWhenAllIsGivenUpShowsThatTheServerLives) {
  for (int i = 0; i < 5; ++i) ask(i, "x@island.example");
  keep_asked();
  wait(1000ms);  // one attempt each: silent five times in a row
  ASSERT_EQ(out.notices.size(), 1U);
  EXPECT_EQ(out.notices[0].subject, "server strict-island/island-1 (access 198.51.100.2:1812)");
  const Octets answer = answer_of(wire::Code::access_accept, "pulau");
  from_server(answer_of(wire::Code::access_accept, "karang"),
              "198.51.100.2:1812");  // anybody could send that
  EXPECT_TRUE(out.notices.empty());
  from_server(answer, "198.51.100.2:1812");
  EXPECT_EQ(outcome(), "reply-unexpected");
  EXPECT_EQ(event().because, "it came when the request had been given up; the server is alive");
  ASSERT_EQ(out.notices.size(), 1U);
  EXPECT_EQ(out.notices[0].text, "up again (it answered)");
  from_server(answer, "198.51.100.2:1812");  // once
  EXPECT_EQ(event().because, "no request waits for it: it came too late, or twice");
}

TEST_F(Neighbours, TheShareOfAGroupIsASetting) {
  Settings settings{{{forward::Purpose::access, {}}, {forward::Purpose::accounting, {}}},
                    256,
                    std::chrono::milliseconds(10000),
                    64,
                    10};
  Engine narrow(settings, random, counters);
  narrow.use(board.go_live(support::plan_of(kPlan), 2), {clock.now(), out});
  for (int i = 0; i < 6; ++i) {
    out.clear();
    narrow.handle({0,
                   *Endpoint::parse("192.0.2.1:" + std::to_string(4000 + i), 0),
                   {},
                   access_request(static_cast<std::uint8_t>(i))
                       .user("rani@lagoon.example")
                       .password("x")
                       .signed_with(secret("laut"))},
                  {clock.now(), out});
  }
  EXPECT_EQ(outcome(), "overloaded");
  EXPECT_THAT(event().detail,
              HasSubstr("5 requests wait for group lagoon, 10 % of all that may wait (group_share)"));
}

}  // namespace
}  // namespace jembatan::engine
