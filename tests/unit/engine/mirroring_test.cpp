// Requests that are sent to another group as well, whose answers nobody waits for.
#include "engine/mirroring.h"

#include <gmock/gmock.h>

#include "unit/engine/one_node.h"
#include "wire/hidden.h"

namespace jembatan::engine {
namespace {

using support::access_request;
using support::secret;
using testing::HasSubstr;

std::string mirrored_plan(int percent) {
  return R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[realm]]
name = "lagoon.example"
handle = "group:lagoon"
[[route]]
name = "islands"
when = 'realm == "island.example"'
handle = "group:lagoon"
mirror = { to = "group:lagoon-old" }
[[group]]
name = "lagoon"
answer_within = "1s"
attempts = 1
when_silent = "refuse"
mirror = { to = "group:lagoon-next", percent = )" +
         std::to_string(percent) + R"(, compare = ["Filter-Id", "Class"] }
[[group.server]]
name = "lagoon-1"
address = "198.51.100.1"
secret = "danau"
[[group]]
name = "lagoon-next"
answer_within = "1s"
attempts = 1
[[group.server]]
name = "next-1"
address = "198.51.100.9"
secret = "baru"
[[group]]
name = "lagoon-old"
[[group.server]]
name = "old-1"
address = "198.51.100.8"
secret = "lama"
)";
}

class Mirrored : public Handle {
 protected:
  Mirrored() { use(100); }
  void use(int percent) {
    engine.use(board.go_live(support::plan_of(mirrored_plan(percent)), 2), {clock.now(), out});
  }
  // One request, answered with these attributes; what is to be copied.
  std::vector<Actions::Copy> sign_in(int number, wire::Code code, const Octets& attributes = {},
                                     std::string_view user = "rani@lagoon.example") {
    receive(access_request(static_cast<std::uint8_t>(number))
                .user(user)
                .password("ombak-3")
                .signed_with(secret("laut")));
    keep_asked();
    from_server(answer_of(code, "danau", attributes));
    return out.copies;
  }
  // Sends a copy; keeps what is asked of the mirror.
  void mirror(Actions::Copy copy) {
    theirs.clear();
    mirroring.offer(std::move(copy), {clock.now(), theirs});
    if (theirs.asks.empty()) return;
    const OctetView view = theirs.view(theirs.asks[0].packet);
    asked.assign(view.begin(), view.end());
  }
  void answer(wire::Code code, const Octets& attributes = {}) {
    theirs.clear();
    mirroring.on_reply(0, *Endpoint::parse("198.51.100.9:1812", 0), answer_of(code, "baru", attributes),
                       {clock.now(), theirs});
  }
  MirrorTally tally() const { return mirroring.tallies().at(0); }

  static Octets filter(std::string_view text) {
    Octets out{11, static_cast<std::uint8_t>(text.size() + 2)};
    append(out, view_of(text));
    return out;
  }
  Counters counters_;
  Mirroring mirroring{random, counters_, std::make_shared<const LoopMark>(Secret("0123456789abcdef")), 4};
  Actions theirs;
};

TEST_F(Mirrored, TheCopyHasThePasswordUnderTheMirrorsSecret) {
  const auto copies = sign_in(1, wire::Code::access_accept, filter("crew"));
  ASSERT_EQ(copies.size(), 1U);
  mirror(copies.front());
  const auto packet = *wire::PacketView::parse(asked);
  const auto hidden = packet.find(wire::AttributeType::user_password);
  EXPECT_EQ(text_of(*wire::reveal_password(hidden->value, packet.authenticator(), secret("baru"))),
            "ombak-3");
  answer(wire::Code::access_accept, filter("crew"));
  EXPECT_EQ(tally().same, 1U);
  EXPECT_EQ(tally().of + " to " + tally().to, "group lagoon to lagoon-next");
  EXPECT_TRUE(theirs.events.empty());
  EXPECT_EQ(mirroring.under_way(), 0U);
}

TEST_F(Mirrored, WhatDiffersIsCountedAndTold) {
  mirror(sign_in(1, wire::Code::access_accept, filter("crew")).front());
  answer(wire::Code::access_accept, filter("deck"));
  ASSERT_EQ(theirs.events.size(), 1U);
  EXPECT_EQ(theirs.events[0].outcome, Outcome::mirror_differs);
  EXPECT_EQ(theirs.events[0].user, "rani@lagoon.example");
  EXPECT_EQ(theirs.events[0].detail, "Filter-Id: lagoon/lagoon-1 says \"crew\", lagoon-next/next-1 \"deck\"");
  mirror(sign_in(2, wire::Code::access_accept, filter("crew")).front());
  answer(wire::Code::access_reject);
  EXPECT_THAT(theirs.events.at(0).detail,
              HasSubstr("lagoon/lagoon-1 says Access-Accept, lagoon-next/next-1 Access-Reject"));
  EXPECT_EQ(tally().differed, 2U);
  EXPECT_EQ(tally().by_what.at("Filter-Id"), 1U);
  EXPECT_EQ(tally().by_what.at("code"), 1U);
  EXPECT_EQ(tally().examples.size(), 2U);
}

TEST_F(Mirrored, ARequestThatNobodyAnsweredIsComparedToo) {
  receive(access_request(1).user("rani@lagoon.example").password("ombak-3").signed_with(secret("laut")));
  silence();
  ASSERT_EQ(outcome(), "rejected");
  ASSERT_EQ(out.copies.size(), 1U);
  mirror(out.copies.front());
  answer(wire::Code::access_accept);
  EXPECT_THAT(theirs.events.at(0).detail,
              HasSubstr("no answer came from group lagoon, lagoon-next/next-1 says Access-Accept"));
}

TEST_F(Mirrored, ASilentMirrorHoldsItsOwnRoomAlone) {
  for (int i = 0; i < 6; ++i) mirror(sign_in(i, wire::Code::access_accept).front());
  EXPECT_EQ(mirroring.under_way(), 4U);
  EXPECT_EQ(tally().shed, 2U);
  EXPECT_EQ(engine.in_flight(), 0U);
  mirroring.on_timer({clock.advance(std::chrono::milliseconds(1200)), theirs});
  EXPECT_EQ(tally().unanswered, 4U);
  EXPECT_EQ(mirroring.under_way(), 0U);
}

TEST_F(Mirrored, AShareIsCopiedAndNoLaterRound) {
  use(25);
  std::size_t copied = 0;
  for (int i = 0; i < 400; ++i) {
    copied += sign_in(i % 200, wire::Code::access_accept).size();
    clock.advance(std::chrono::seconds(1));  // Identifiers come round
  }
  EXPECT_NEAR(static_cast<double>(copied), 100, 40);
  use(100);
  receive(access_request(201)
              .user("rani@lagoon.example")
              .plus({24, 4, 'a', 'b'})
              .password("ombak-3")
              .signed_with(secret("laut")));
  keep_asked();
  from_server(answer_of(wire::Code::access_accept, "danau"));
  EXPECT_TRUE(out.copies.empty());
}

TEST_F(Mirrored, ARoutesMirrorTakesThePlaceOfTheGroups) {
  const auto copies = sign_in(1, wire::Code::access_accept, {}, "rani@island.example");
  ASSERT_EQ(copies.size(), 1U);
  mirror(copies.front());
  EXPECT_EQ(theirs.asks.at(0).to.text(), "198.51.100.8:1812");
  EXPECT_EQ(copies.front().of, "route islands");
}

}  // namespace
}  // namespace jembatan::engine
