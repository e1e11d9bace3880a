#include "engine/delivery.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "accounting/keys.h"
#include "support/fakes.h"
#include "support/packets.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using support::secret;
using support::value_in;
using testing::ElementsAre;
using testing::IsEmpty;
using testing::MatchesRegex;
using wire::Code;
using wire::PacketView;

constexpr const char* kTwoGroups = R"(
[[group]]
name = "lagoon"
answer_within = "1s"
attempts = 1
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[group]]
name = "mail"
answer_within = "1s"
attempts = 1
[[group.server]]
name = "mail-1"
address = "198.51.100.2"
secret = "danau"
)";

class DeliveryTest : public testing::Test {
 protected:
  DeliveryTest() : delivery(random, counters) { delivery.use(live(kTwoGroups)); }

  forward::LivePlanPtr live(std::string_view text) {
    return board.go_live(support::plan_of(text), ++revision);
  }

  // As the store has it: by group, then by number.
  void put(std::int64_t id, const std::string& group = "lagoon", const std::string& session = "") {
    const Octets packet = support::accounting_request("Start", session.empty() ? std::to_string(id) : session)
                              .user("tamu@lagoon.example")
                              .signed_with(secret("laut"));
    auto arrival = accounting::arrival_of(*PacketView::parse(packet), {"kerapu", {}}, "", clock.now().wall);
    arrival->id = id;
    queues[group][id] = *arrival;
    delivery.more(group);
  }
  void turn(bool load = true) {
    for (const Delivery::Wish& wish : delivery.wishes(clock.now().steady)) {
      std::vector<accounting::Undelivered> found;
      auto& queue = queues[wish.group];
      for (auto at = queue.upper_bound(wish.behind); load && at != queue.end() && found.size() < wish.most;
           ++at)
        found.push_back({wish.group, at->second});
      delivery.offer(wish, std::move(found));
    }
    delivery.send({clock.now(), out});
    for (const auto& one : delivery.take_delivered()) {
      delivered.push_back(one);
      queues[one.group].erase(one.id);
      delivery.taken_off(std::span(&one, 1));
    }
  }
  // What was asked for since the last call, at the server with this address.
  std::vector<std::string> asked(const std::string& address) {
    std::vector<std::string> sessions;
    for (const auto& ask : out.asks) {
      if (ask.to.address.text() != address) continue;
      const std::string quoted = value_in(out.view(ask.packet), "Acct-Session-Id");
      sessions.push_back(quoted.substr(1, quoted.size() - 2));
    }
    return sessions;
  }
  void acknowledge_all(const std::string& address) {
    const Actions asked = std::exchange(out, {});
    for (const auto& ask : asked.asks) {
      if (ask.to.address.text() != address) continue;
      const auto packet = PacketView::parse(asked.view(ask.packet));
      EXPECT_TRUE(wire::verify_digested_request(*packet, secret("danau")));
      wire::PacketBuilder reply(Code::accounting_response, packet->identifier(), packet->authenticator());
      wire::sign_response(reply.finish(), packet->authenticator(), secret("danau"));
      delivery.on_reply(ask.lane, ask.to, reply.finish(), {clock.now(), out});
    }
    turn();
  }
  void pass(std::chrono::milliseconds time) {
    delivery.on_timer({clock.advance(time), out});
    turn();
  }
  std::vector<std::string> notices() {
    std::vector<std::string> texts;
    for (const auto& notice : out.notices) {
      if (notice.subject.starts_with("accounting")) texts.push_back(notice.text);
    }
    return texts;
  }

  support::FakeClock clock;
  support::FixedRandom random{1};
  Counters counters;
  forward::HealthBoard board;
  std::uint64_t revision = 0;
  Delivery delivery;
  Actions out;
  std::map<std::string, std::map<std::int64_t, accounting::Arrival>> queues;
  std::vector<accounting::Delivered> delivered;
};

TEST_F(DeliveryTest, AnAcknowledgedRecordLeavesTheQueueWithItsEvidence) {
  put(5);
  turn();
  EXPECT_THAT(asked("198.51.100.1"), ElementsAre("5"));
  const OctetView sent = out.view(out.asks.at(0).packet);
  const accounting::Digest digest = accounting::digest_of(sent.subspan(wire::kHeader));
  const WallTime first = clock.now().wall;
  clock.advance(9ms);
  acknowledge_all("198.51.100.1");
  ASSERT_EQ(delivered.size(), 1U);
  EXPECT_EQ(delivered[0].id, 5);
  EXPECT_EQ(delivered[0].group, "lagoon");
  EXPECT_EQ(delivered[0].server, "lagoon-1");
  EXPECT_EQ(delivered[0].digest, digest);
  EXPECT_EQ(delivered[0].sent, first);
  EXPECT_EQ(delivered[0].acknowledged, first + 9ms);
  EXPECT_EQ(delivery.under_way(), 0U);
}

TEST_F(DeliveryTest, WhatTheNextHopIsToldIsTheSameForEveryTry) {
  put(5);
  turn();
  const std::string event = value_in(out.view(out.asks.at(0).packet), "Event-Timestamp");
  EXPECT_EQ(event, "2026-09-21T14:13:20.000Z");
  out.clear();
  pass(1100ms);  // silent
  for (int i = 0; i < 20 && out.asks.empty(); ++i) pass(500ms);
  ASSERT_EQ(out.asks.size(), 1U);
  EXPECT_EQ(value_in(out.view(out.asks[0].packet), "Event-Timestamp"), event);
  EXPECT_EQ(value_in(out.view(out.asks[0].packet), "Acct-Delay-Time"), "2");  // RFC 2866 §5.2
}

TEST_F(DeliveryTest, ASilentGroupHoldsNoOther) {
  for (std::int64_t id = 1; id <= 5000; ++id) put(id);
  turn();
  for (int i = 0; i < 40; ++i) pass(500ms);  // by now it rests most of the time
  out.clear();
  put(5001, "mail");
  turn();
  EXPECT_THAT(asked("198.51.100.2"), ElementsAre("5001"));
  EXPECT_LE(delivery.under_way(), 2U);
}

TEST_F(DeliveryTest, AGroupThatComesBackGetsEverythingInItsOrder) {
  for (std::int64_t id = 1; id <= 300; ++id) put(id);
  turn();
  for (int i = 0; i < 20; ++i) pass(500ms);
  out.clear();
  std::vector<std::string> got;
  for (int i = 0; i < 200 && delivered.size() < 300; ++i) {
    for (const auto& session : asked("198.51.100.1")) got.push_back(session);
    acknowledge_all("198.51.100.1");
    if (out.asks.empty()) pass(500ms);
  }
  EXPECT_EQ(delivered.size(), 300U);
  EXPECT_EQ(std::set<std::string>(got.begin(), got.end()).size(), 300U);
  EXPECT_TRUE(queues["lagoon"].empty());
}

TEST_F(DeliveryTest, MoreIsUnderWayWithEachAnswer) {
  for (std::int64_t id = 1; id <= 400; ++id) put(id);
  turn();
  EXPECT_EQ(out.asks.size(), Pace::kFirst);
  acknowledge_all("198.51.100.1");
  EXPECT_EQ(out.asks.size(), 2 * Pace::kFirst);
}

TEST_F(DeliveryTest, TheRecordsOfASessionGoOneAfterTheOther) {
  put(1, "lagoon", "s1");
  put(2, "lagoon", "s2");
  put(3, "lagoon", "s1");
  turn();
  EXPECT_THAT(asked("198.51.100.1"), ElementsAre("s1", "s2"));
  acknowledge_all("198.51.100.1");
  EXPECT_THAT(asked("198.51.100.1"), ElementsAre("s1"));
}

TEST_F(DeliveryTest, WhatIsUnderWayOrBeingTakenOffIsNotSentTwice) {
  put(5);
  turn();
  out.clear();
  delivery.begin_anew("lagoon");
  turn();
  EXPECT_THAT(out.asks, IsEmpty());
}

TEST_F(DeliveryTest, ASilentGroupIsOneLineAMinuteAndOneWhenItAnswersAgainAndOneAtTheEnd) {
  put(1);
  put(2);
  turn();
  std::vector<std::string> told;
  for (int i = 0; i < 80; ++i) {
    out.clear();
    pass(500ms);
    for (const auto& text : notices()) told.push_back(text);
  }
  EXPECT_THAT(told,
              ElementsAre(MatchesRegex("record [12] waits in the queue .group lagoon: lagoon-1 is silent.")));
  for (int i = 0; i < 40 && delivered.size() < 2; ++i) {
    out.notices.clear();
    acknowledge_all("198.51.100.1");
    for (const auto& text : notices()) told.push_back(text);
    if (out.asks.empty()) pass(500ms);
  }
  told.erase(told.begin());
  EXPECT_THAT(told, ElementsAre("records are acknowledged again",
                                "nothing waits any more; 2 acknowledged since then"));
}

TEST_F(DeliveryTest, TheEndIsToldAlsoIfItIsFoundOutAfterTheLastAnswer) {
  put(1);
  turn();
  out.clear();
  pass(1100ms);
  for (int i = 0; i < 20 && out.asks.empty(); ++i) pass(500ms);
  delivery.more("lagoon");  // it may have more; nobody has looked yet
  out.notices.clear();
  acknowledge_all("198.51.100.1");
  EXPECT_THAT(notices(), ElementsAre("records are acknowledged again",
                                     "nothing waits any more; 1 acknowledged since then"));
}

TEST_F(DeliveryTest, AGroupThatThePlanHasLostKeepsItsQueue) {
  put(1);
  delivery.use(
      live("[[group]]\nname = \"mail\"\n[[group.server]]\nname = \"mail-1\"\naddress = "
           "\"198.51.100.2\"\nsecret = \"danau\"\n"));
  turn();
  EXPECT_THAT(out.asks, IsEmpty());
  delivery.use(live(kTwoGroups));
  turn();
  EXPECT_THAT(asked("198.51.100.1"), ElementsAre("1"));
}

TEST_F(DeliveryTest, WhatCannotBeSentIsSetAsideWithItsReason) {
  put(1);
  queues["lagoon"][1].attributes.clear();
  put(2);
  turn();
  const auto aside = delivery.take_set_aside();
  ASSERT_EQ(aside.size(), 1U);
  EXPECT_EQ(aside[0].id, 1);
  EXPECT_EQ(aside[0].why, "the record is not in the store any more");
  EXPECT_THAT(asked("198.51.100.1"), ElementsAre("2"));
  EXPECT_THAT(notices(),
              ElementsAre("record 1 cannot be sent and is set aside (the record is not in the store "
                          "any more)"));
}

TEST(Pacing, RestsLongerAfterEachSilenceAndNotAtAllAfterAnAnswer) {
  Pace pace;
  TimePoint now{1h};
  std::vector<std::chrono::milliseconds> rests;
  for (int i = 0; i < 6; ++i) {
    pace.silent(now);
    pace.silent(now);  // what was under way with it
    rests.push_back(std::chrono::duration_cast<std::chrono::milliseconds>(pace.rests_until() - now));
    now = pace.rests_until();
    EXPECT_FALSE(pace.rests(now));
  }
  EXPECT_THAT(rests, ElementsAre(1s, 2s, 4s, 8s, 10s, 10s));
  EXPECT_EQ(pace.window(), 1U);
  pace.silent(now);
  pace.answered();
  EXPECT_FALSE(pace.rests(now));
  EXPECT_EQ(pace.window(), 2U);
}

}  // namespace
}  // namespace jembatan::engine
