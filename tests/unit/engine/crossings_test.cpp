// What one dead or slow neighbour may take from the others (issue 10, 3.4).
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <map>
#include <set>

#include "decide/reasons.h"
#include "support/journal.h"
#include "unit/engine/one_node.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::access_request;
using support::secret;
using testing::HasSubstr;

class Neighbours : public Handle {
 protected:
  static std::string user(int number, const std::string& realm) {
    return "user-" + std::to_string(number) + "@" + realm;
  }
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
  for (int i = 0; i < 12; ++i) ask(i, user(i, "island.example"));  // answers within 1 s, one attempt
  silence();
  for (int i = 20; i < 40; ++i) ask(i, "x@island.example");
  EXPECT_EQ(outcome(), "rejected");  // when_silent = "refuse"
  EXPECT_THAT(event().detail, HasSubstr("is down since"));
  EXPECT_LE(engine.in_flight(), 8U);
}

TEST_F(Neighbours, ASlowSoleServerIsAskedToTheEnd) {
  for (int i = 0; i < 10; ++i) ask(i, user(i, "lagoon.example"));
  silence();
  silence(2);  // two attempts each: by now it counts as down
  ask(50, "rani@lagoon.example");
  keep_asked();
  silence();
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
  silence();
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
  for (int i = 0; i < 5; ++i) ask(i, user(i, "island.example"));
  keep_asked();
  silence();  // one attempt each: silent five times in a row
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
  Settings settings = small();
  settings.group_percent = 10;
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

TEST_F(Neighbours, AClientTakesItsShareAtTheMost) {
  Settings settings = small();
  settings.client_percent = 25;
  Engine narrow(settings, random, counters);
  narrow.use(board.go_live(support::plan_of(kPlan), 2), {clock.now(), out});
  const auto send = [&](int number, const std::string& from) {
    out.clear();
    narrow.handle({0,
                   *Endpoint::parse(from + ":" + std::to_string(4000 + number), 0),
                   {},
                   access_request(static_cast<std::uint8_t>(number))
                       .user(number % 2 == 0 ? "rani@lagoon.example" : "x@island.example")
                       .password("x")
                       .signed_with(secret("laut"))},
                  {clock.now(), out});
  };
  for (int i = 0; i < 13; ++i) send(i, "192.0.2.1");  // whichever groups it asks for
  EXPECT_EQ(outcome(), "overloaded");
  EXPECT_EQ(event().detail,
            "12 requests of client deck wait for servers, 25 % of all that may wait (client_share)");
  send(20, "192.0.2.66");  // another client
  EXPECT_EQ(out.asks.size(), 1U);
  out.clear();
  narrow.stop({clock.now(), out});
  send(30, "192.0.2.1");
  EXPECT_EQ(out.asks.size(), 1U);
}

TEST_F(Neighbours, ASupersededRequestAsksNoMoreAndDoesNotCountAgainstTheServer) {
  ask(1, "x@island.example");
  receive(
      access_request(1).authenticator(9).user("x@island.example").password("x").signed_with(secret("laut")),
      "192.0.2.1:4001");
  EXPECT_EQ(outcome(), "superseded");
  for (int i = 2; i < 5; ++i) ask(i, user(i, "island.example"));
  silence();  // four were asked in vain; with the superseded one it would be down (down_after is 5)
  EXPECT_TRUE(out.notices.empty());
  EXPECT_TRUE(out.asks.empty());
}

class TwoOfAGroup : public Neighbours {
 protected:
  void use(const std::string& of_group, const std::string& of_client = "") {
    live = board.go_live(
        support::plan_of(
            "[[client]]\nname = \"deck\"\naddress = \"192.0.2.0/24\"\nsecret = \"laut\"\n" + of_client +
            "[[realm]]\nname = \"lagoon.example\"\nhandle = \"group:lagoon\"\n"
            "[[user]]\nname = \"rani@lagoon.example\"\npassword = { clear = \"ombak-3\" }\n"
            "[[group]]\nname = \"lagoon\"\nanswer_within = \"1s\"\nattempts = 1\ndown_after = 1\n" +
            of_group +
            "[[group.server]]\nname = \"lagoon-1\"\naddress = \"198.51.100.1\"\nsecret = \"danau\"\n"
            "[[group.server]]\nname = \"lagoon-2\"\naddress = \"198.51.100.2\"\nsecret = \"danau\"\n"),
        2);
    engine.use(live, {clock.now(), out});
  }
  std::string asked_at() const { return out.asks.empty() ? "nobody" : out.asks[0].to.address.text(); }
  // The server that was asked last answers with a challenge.
  void challenge(std::string_view state) {
    const std::string at = out.asks.at(0).to.text();
    keep_asked();
    from_server(answer_of(wire::Code::access_challenge, "danau", state_attribute(state)), at.c_str());
    EXPECT_EQ(outcome(), "challenged");
  }
  static Octets state_attribute(std::string_view state) {
    Octets out{24, static_cast<std::uint8_t>(state.size() + 2)};
    append(out, view_of(state));
    return out;
  }
  const Actions& next_round(int number, std::string_view state, const char* from = "192.0.2.1:4999") {
    return receive(access_request(static_cast<std::uint8_t>(number))
                       .user("rani@lagoon.example")
                       .password("1234")
                       .plus(state_attribute(state))
                       .signed_with(secret("laut")),
                   from);
  }
  static std::string hash_of_plan() {
    const std::string_view plan = kPlan;
    const std::size_t at = plan.find("$6$");
    return std::string(plan.substr(at, plan.find('"', at) - at));
  }
  forward::LivePlanPtr live;
};

TEST_F(TwoOfAGroup, RoundsStayWithTheServerThatGaveTheState) {
  use("");
  for (int i = 0; i < 6; ++i) {
    ask(i, "rani@lagoon.example");
    const std::string first = asked_at();
    challenge("state-" + std::to_string(i));
    ask(100 + i, "rani@lagoon.example");  // others come in between
    next_round(50 + i, "state-" + std::to_string(i));
    EXPECT_EQ(asked_at(), first) << i;
  }
  next_round(90, "nobody gave this");
  EXPECT_NE(asked_at(), "nobody");  // whoever's turn it is
}

TEST_F(TwoOfAGroup, AStateOfAnotherClientLeadsNowhere) {
  use("", "[[client]]\nname = \"pier\"\naddress = \"192.0.2.9\"\nsecret = \"laut\"\n");
  ask(1, "rani@lagoon.example");
  challenge("S");
  std::set<std::string> seen;
  for (int i = 0; i < 2; ++i) {
    next_round(10 + i, "S", "192.0.2.9:4000");
    seen.insert(asked_at());
  }
  EXPECT_EQ(seen.size(), 2U);
}

TEST_F(TwoOfAGroup, AServerLostInTheMiddleEndsTheConversationWithAReason) {
  use("");
  ask(1, "rani@lagoon.example");
  const std::string first = asked_at();
  challenge("S");
  next_round(2, "S");
  ASSERT_EQ(asked_at(), first);
  silence();
  EXPECT_TRUE(out.asks.empty());  // nobody else can go on with it
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(event().because, decide::kLostInTheMiddle);
  EXPECT_THAT(event().detail, HasSubstr("down since"));
  next_round(3, "S");  // by now it is known to be down: at once
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_THAT(event().detail, HasSubstr(first == "198.51.100.1" ? "lagoon/lagoon-1 is down since"
                                                                : "lagoon/lagoon-2 is down since"));
  ask(4, "rani@lagoon.example");
  EXPECT_NE(asked_at(), first);
}

TEST_F(TwoOfAGroup, AServerThatThePlanLosesInTheMiddleToo) {
  use("");
  for (int i = 0; asked_at() != "198.51.100.2" && i < 4; ++i) ask(i, "rani@lagoon.example");
  challenge("S");
  engine.use(board.go_live(support::plan_of(kPlan), 3), {clock.now(), out});  // which has the first alone
  next_round(9, "S");
  EXPECT_EQ(outcome(), "rejected");
  EXPECT_EQ(event().detail, "group lagoon has no server 198.51.100.2:1812 any more");
}

TEST_F(TwoOfAGroup, UsersStickToTheirServer) {
  use("sticky = \"user\"\n");
  std::map<std::string, std::set<std::string>> servers;
  for (int i = 0; i < 24; ++i) {
    const std::string name = user(i % 8, "lagoon.example");
    ask(i, name);
    servers[name].insert(asked_at());
  }
  std::set<std::string> all;
  for (const auto& [name, of_user] : servers) {
    EXPECT_EQ(of_user.size(), 1U) << name;
    all.insert(of_user.begin(), of_user.end());
  }
  EXPECT_EQ(all.size(), 2U);
}

TEST_F(TwoOfAGroup, ARequestIsAskedForNoLongerThanItsClientWaits) {
  use("", "waits = \"1s\"\n");  // no client is patient enough for the second server
  ask(1, "rani@lagoon.example");
  wait(1000ms);
  EXPECT_TRUE(out.asks.empty());
  EXPECT_EQ(outcome(), "no-answer");
  EXPECT_THAT(event().detail, HasSubstr("the time that it may take is over"));
  EXPECT_TRUE(out.notices.empty());  // and that says nothing of the server
}

TEST_F(TwoOfAGroup, WhenAllAreSilentThisNodeMayDecideItself) {
  use("when_silent = \"here\"\n");
  ask(1, "rani@lagoon.example");
  silence();
  EXPECT_NE(asked_at(), "nobody");
  silence();
  EXPECT_EQ(outcome(), "accepted");
  const auto kept = support::kept_entry(event()).trail;
  EXPECT_THAT(kept, testing::Contains(HasSubstr("handled here (when_silent)")));
  receive(access_request(2).user("rani@lagoon.example").password("wrong").signed_with(secret("laut")));
  silence();
  silence();
  EXPECT_EQ(outcome(), "rejected");
  expect_counters_to_add_up();
}

TEST_F(TwoOfAGroup, AHashIsComparedAfterAllAreSilent) {  // it waits again
  engine.use(board.go_live(support::plan_of(
                               "[[client]]\nname = \"deck\"\naddress = \"192.0.2.0/24\"\nsecret = \"laut\"\n"
                               "[[realm]]\nname = \"reef.example\"\nhandle = \"group:reef\"\n"
                               "[[user]]\nname = \"sari@reef.example\"\npassword = { hash = \"" +
                               hash_of_plan() +
                               "\" }\n[[group]]\nname = \"reef\"\nanswer_within = \"1s\"\nattempts = "
                               "1\nwhen_silent = \"here\"\n[[group.server]]\nname = \"reef-1\"\naddress = "
                               "\"198.51.100.1\"\nsecret = \"danau\"\n"),
                           2),
             {clock.now(), out});
  ask(1, "sari@reef.example");
  silence();
  ASSERT_EQ(out.jobs.size(), 1U);
  compare_all(engine, out, clock.now());
  EXPECT_NE(outcome(), "none");
  EXPECT_EQ(engine.in_flight(), 0U);
  EXPECT_THAT(support::kept_entry(event()).trail, testing::Contains(HasSubstr("the password was compared")));
  expect_counters_to_add_up();
}

}  // namespace
}  // namespace jembatan::engine
