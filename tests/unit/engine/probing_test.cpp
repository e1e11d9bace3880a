#include "engine/probing.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/fakes.h"
#include "support/packets.h"
#include "wire/authenticator.h"
#include "wire/builder.h"
#include "wire/hidden.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using forward::Purpose;
using support::secret;
using wire::Code;

constexpr const char* kRest = R"(
[[group.server]]
name = "one"
address = "198.51.100.1"
secret = "laut"
[[group.server]]
name = "two"
address = "198.51.100.2"
secret = "laut"
[[realm]]
name = "reef.example"
handle = "group:homes"
accounting = ["here"]
[[group]]
name = "not probed"
[[group.server]]
name = "three"
address = "198.51.100.3"
secret = "laut"
[[realm]]
name = "lagoon.example"
handle = "group:not probed"
)";

class ProbingTest : public testing::Test {
 protected:
  explicit ProbingTest(const std::string& probe = "\"status-server\"") { use(probe); }
  void use(const std::string& probe) {
    live = board.go_live(support::plan_of("[[group]]\nname = \"homes\"\nanswer_within = \"1s\"\ndown_after = "
                                          "3\ntry_again_every = \"30s\"\nprobe = " +
                                          probe + std::string(kRest)),
                         1);
    probing.use(live, clock.now().steady);
  }
  void run() { probing.on_timer({clock.now(), out}); }
  void run_after(Duration time) {
    out.clear();
    probing.on_timer({clock.advance(time), out});
  }
  std::vector<std::string> asked() const {
    std::vector<std::string> to;
    for (const auto& ask : out.asks) to.push_back(ask.to.text());
    return to;
  }
  Octets packet(std::size_t place) const {
    const OctetView view = out.view(out.asks.at(place).packet);
    return {view.begin(), view.end()};
  }
  Octets answer_to(const Octets& request, Code code = Code::access_accept,
                   std::string_view with = "laut") const {
    const auto packet = wire::PacketView::parse(request);
    wire::PacketBuilder reply(code, packet->identifier(), packet->authenticator());
    (void)reply.add_message_authenticator();
    wire::sign_response(reply.finish(), packet->authenticator(), secret(with));
    return {reply.finish().begin(), reply.finish().end()};
  }
  void answer_all(std::string_view with = "laut") {
    const auto asks = out.asks;
    std::vector<Octets> answers;
    for (std::size_t i = 0; i < asks.size(); ++i)
      answers.push_back(answer_to(packet(i), Code::access_accept, with));
    for (std::size_t i = 0; i < asks.size(); ++i)
      probing.on_reply(asks[i].lane, asks[i].to, answers[i], {clock.now(), out});
  }
  forward::ServerHealth& health(std::size_t server) const {
    return *live->health_of(0, Purpose::access)[server];
  }

  support::FakeClock clock;
  support::FixedRandom random{3};
  forward::HealthBoard board;
  forward::LivePlanPtr live;
  Probing probing{random, "hub"};
  Actions out;
};

TEST_F(ProbingTest, AsksTheServersOfGroupsWithAProbeForWhatTheyAreUsed) {
  run();
  EXPECT_THAT(asked(), testing::UnorderedElementsAre("198.51.100.1:1812", "198.51.100.2:1812"));
  const auto first = wire::PacketView::parse(packet(0));
  Octets octets = packet(0);
  EXPECT_EQ(wire::PacketView::parse(octets)->code(), Code::status_server);
  EXPECT_EQ(
      wire::check_message_authenticator(*wire::PacketView::parse(octets),
                                        wire::PacketView::parse(octets)->authenticator(), secret("laut")),
      wire::Signature::valid);
  EXPECT_EQ(support::value_in(octets, "NAS-Identifier"), "\"hub\"");
}

TEST_F(ProbingTest, AsksAgainAfterTheIntervalATenthSoonerOrLater) {
  run();
  answer_all();
  EXPECT_EQ(health(0).state(), forward::ServerHealth::State::up);
  ASSERT_TRUE(probing.next_deadline());
  const auto in = *probing.next_deadline() - clock.now().steady;
  EXPECT_GE(in, 27s);
  EXPECT_LE(in, 33s);
  run_after(26s);
  EXPECT_TRUE(out.asks.empty());
  run_after(8s);
  EXPECT_EQ(out.asks.size(), 2U);
}

TEST_F(ProbingTest, RequestsThatAreAnsweredSpareTheProbe) {
  run();
  answer_all();
  clock.advance(34s);
  health(0).answered(clock.now());
  out.clear();
  run();
  EXPECT_THAT(asked(), testing::ElementsAre("198.51.100.2:1812"));
}

TEST_F(ProbingTest, ASilentServerIsAskedAtOnceUntilItIsDownThenEveryInterval) {
  run();
  answer_all();
  run_after(2s);
  health(0).unanswered(live->plan->groups[0], 1, clock.now());
  out.clear();
  probing.look({clock.now(), out});
  EXPECT_THAT(asked(), testing::ElementsAre("198.51.100.1:1812"));
  run_after(1s);
  EXPECT_FALSE(health(0).down());
  EXPECT_THAT(asked(), testing::ElementsAre("198.51.100.1:1812"));
  run_after(1s);  // one request and two probes
  EXPECT_TRUE(health(0).down());
  ASSERT_EQ(out.notices.size(), 1U);
  EXPECT_EQ(out.notices[0].subject, "server homes/one (access 198.51.100.1:1812)");
  EXPECT_THAT(out.notices[0].text,
              testing::StartsWith("down (3 attempts in a row unanswered, probed every 30s)"));
  EXPECT_TRUE(out.asks.empty());
  run_after(33s);
  ASSERT_FALSE(out.asks.empty());
  answer_all();
  EXPECT_FALSE(health(0).down());
  EXPECT_EQ(out.notices.back().text, "up again (it answered)");
}

TEST_F(ProbingTest, WhatIsNotGenuineIsNoAnswerButIsTold) {
  ProbeResult told;
  const auto ask = [&] {
    out.clear();
    ASSERT_TRUE(probing.ask({0, 0, Purpose::access}, {clock.now(), out},
                            [&](const ProbeResult& result, const Turn&) { told = result; }));
  };
  ask();
  answer_all("karang");
  run_after(1s);
  EXPECT_FALSE(told.answered);
  EXPECT_EQ(told.problem, "Response Authenticator does not verify: shared secret probably differs");
  ask();
  answer_all();
  EXPECT_TRUE(told.answered);
  EXPECT_EQ(told.code, Code::access_accept);
  ask();
  run_after(2s);
  EXPECT_FALSE(told.answered);
  EXPECT_EQ(told.problem, "");
}

TEST_F(ProbingTest, ANewPlanForgetsWhatTheOldOneAsked) {
  run();
  const Octets first = packet(0);
  const Endpoint to = out.asks[0].to;
  out.clear();
  use("\"status-server\"");
  run();
  EXPECT_EQ(out.asks.size(), 2U);
  probing.on_reply(0, to, answer_to(first), {clock.now(), out});  // it still shows that the server lives
  EXPECT_EQ(health(0).answered_count(), 1U);
  run_after(1s);
  EXPECT_EQ(health(0).silent_in_a_row(), 1);
}

class SignInProbe : public ProbingTest {
 protected:
  SignInProbe() : ProbingTest("{ user = \"probe@reef.example\", secret = \"ombak-9\" }") {}
};

TEST_F(SignInProbe, SignsItsUserInAndAnyGenuineAnswerIsLife) {
  run();
  const Octets request = packet(0);
  const auto view = wire::PacketView::parse(request);
  EXPECT_EQ(view->code(), Code::access_request);
  EXPECT_EQ(support::value_in(request, "User-Name"), "\"probe@reef.example\"");
  const auto hidden = view->find(wire::AttributeType::user_password);
  ASSERT_TRUE(hidden);
  EXPECT_EQ(text_of(*wire::reveal_password(hidden->value, view->authenticator(), secret("laut"))), "ombak-9");
  const Octets answer = answer_to(request, Code::access_reject);
  probing.on_reply(out.asks[0].lane, out.asks[0].to, answer, {clock.now(), out});
  EXPECT_EQ(health(0).answered_count() + health(1).answered_count(), 1U);
}

TEST_F(SignInProbe, IsForAccessAlone) {
  EXPECT_TRUE(health(0).probed(live->plan->groups[0]));
  EXPECT_FALSE(live->health_of(0, Purpose::accounting)[0]->probed(live->plan->groups[0]));
}

TEST(ProbePlan, MistakesAreNamed) {
  const auto problems = [](const std::string& probe) {
    return support::problems_of(
        "[[group]]\nname = \"g\"\nprobe = " + probe +
        "\n[[group.server]]\nname = \"a\"\naddress = \"198.51.100.1\"\nsecret = \"x\"\n");
  };
  EXPECT_THAT(problems("\"ping\""), testing::HasSubstr("'probe' is 'ping'"));
  EXPECT_THAT(problems("{ user = \"a\" }"), testing::HasSubstr("a table without user or secret"));
  EXPECT_THAT(problems("{ usr = \"a\", secret = \"x\" }"), testing::HasSubstr("usr"));
}

}  // namespace
}  // namespace jembatan::engine
