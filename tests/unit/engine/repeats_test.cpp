#include "engine/repeats.h"

#include <gtest/gtest.h>

#include "wire/packet.h"

#include <map>

#include "support/fakes.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using Seen = Repeats::Seen;

Repeats::Key key(std::uint16_t port, std::uint8_t identifier = 1) {
  return {{*IpAddress::parse("192.0.2.1"), port}, 0, identifier};
}

class RepeatsTest : public testing::Test {
 protected:
  Seen look(const Repeats::Key& at, std::uint8_t packet = 1) {
    found = repeats.look(at, Octets{packet}, clock.now().steady);
    return found.seen;
  }
  support::FakeClock clock;
  Repeats repeats{8, 10000ms};
  Repeats::Found found;
};

TEST_F(RepeatsTest, WaitsWhileTheFirstIsBeingWorkedOnThenGetsTheSameReply) {  // RFC 5080 §2.2.2
  EXPECT_EQ(look(key(1000)), Seen::fresh);
  const auto first = found.handle;
  EXPECT_EQ(look(key(1000)), Seen::waiting);
  EXPECT_TRUE(repeats.answer(first, Octets{1, 2, 3}, clock.now().steady));
  EXPECT_EQ(look(key(1000)), Seen::answered);
  EXPECT_EQ(to_hex(found.reply), "010203");
}

TEST_F(RepeatsTest, AnotherPortListenerIdentifierOrAuthenticatorIsAnotherRequest) {
  EXPECT_EQ(look(key(1000)), Seen::fresh);
  EXPECT_EQ(look(key(1001)), Seen::fresh);
  EXPECT_EQ(look(key(1000, 2)), Seen::fresh);
  EXPECT_EQ(look({key(1000).source, 1, 1}), Seen::fresh);
  EXPECT_EQ(look(key(1000), 2), Seen::fresh);
}

TEST_F(RepeatsTest, ANewRequestWithTheIdentifierSupersedesTheOld) {
  EXPECT_EQ(look(key(1000), 1), Seen::fresh);
  const auto old = found.handle;
  EXPECT_EQ(look(key(1000), 2), Seen::fresh);
  EXPECT_FALSE(repeats.current(old));
  EXPECT_FALSE(repeats.answer(old, Octets{1}, clock.now().steady));
  EXPECT_TRUE(repeats.answer(found.handle, Octets{2}, clock.now().steady));
}

TEST_F(RepeatsTest, IsForgottenAfterItsTime) {
  EXPECT_EQ(look(key(1000)), Seen::fresh);
  EXPECT_TRUE(repeats.answer(found.handle, Octets{1}, clock.now().steady));
  clock.advance(9999ms);
  EXPECT_EQ(look(key(1000)), Seen::answered);
  clock.advance(1ms);
  EXPECT_EQ(look(key(1000)), Seen::fresh);
}

TEST_F(RepeatsTest, WhatGetsNoReplyIsNewWhenItComesAgain) {
  EXPECT_EQ(look(key(1000)), Seen::fresh);
  repeats.forget(found.handle);
  EXPECT_EQ(look(key(1000)), Seen::fresh);
}

TEST_F(RepeatsTest, TheOldestAnsweredMakesRoomThoseBeingWorkedOnStay) {
  std::vector<Repeats::Handle> handles;
  for (std::uint16_t port = 0; port < 8; ++port) {
    EXPECT_EQ(look(key(port)), Seen::fresh);
    handles.push_back(found.handle);
  }
  EXPECT_EQ(look(key(100)), Seen::full);
  EXPECT_TRUE(repeats.answer(handles[3], Octets{3}, clock.now().steady));
  EXPECT_EQ(look(key(100)), Seen::fresh);
  EXPECT_EQ(look(key(3)), Seen::full);
  EXPECT_EQ(look(key(4)), Seen::waiting);
}

TEST_F(RepeatsTest, AgreesWithAMapOverManyRandomRequests) {
  support::FixedRandom random(11);
  Repeats large(4096, 10000ms);
  std::map<std::pair<std::uint16_t, std::uint8_t>, std::uint8_t> known;
  for (int i = 0; i < 3000; ++i) {
    const auto port = static_cast<std::uint16_t>(random.below(20));
    const auto id = static_cast<std::uint8_t>(random.below(10));
    const auto authenticator = static_cast<std::uint8_t>(random.below(3));
    const auto seen = large.look(key(port, id), wire::Authenticator{authenticator}, clock.now().steady);
    const auto before = known.find({port, id});
    const bool repeat = before != known.end() && before->second == authenticator;
    ASSERT_EQ(seen.seen, repeat ? Seen::answered : Seen::fresh);
    if (repeat) continue;
    known[{port, id}] = authenticator;
    ASSERT_TRUE(large.answer(seen.handle, Octets{id}, clock.now().steady));
  }
}

}  // namespace
}  // namespace jembatan::engine
