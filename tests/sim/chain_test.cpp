// Edge, hub and two homes over links that lose: the same engine as in the server.
#include <gtest/gtest.h>

#include <set>

#include "sim/network.h"
#include "support/packets.h"

namespace jembatan::sim {
namespace {

using namespace std::chrono_literals;
using engine::Outcome;
using support::access_request;
using support::accounting_request;
using support::secret;
using wire::Code;

constexpr const char* kEdge = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "deck"
[realm_default]
unknown = "group:harbour"
[[group]]
name = "harbour"
answer_within = "700ms"
attempts = 4
[[group.server]]
name = "hub"
address = "198.51.100.20"
secret = "radio"
)";

constexpr const char* kHub = R"(
[[client]]
name = "kerapu"
address = "198.51.100.10"
secret = "radio"
[[realm]]
name = "reef.example"
handle = "group:reef-homes"
[[group]]
name = "reef-homes"
answer_within = "300ms"
attempts = 2
down_after = 4
try_again_every = "5s"
[[group.server]]
name = "reef-1"
address = "198.51.100.31"
secret = "reef"
weight = 75
[[group.server]]
name = "reef-2"
address = "198.51.100.32"
secret = "reef"
weight = 25
)";

constexpr const char* kHome = R"(
[[client]]
name = "harbour"
address = "198.51.100.20"
secret = "reef"
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
)";

struct Chain {
  Chain(LinkQuality quality, unsigned seed)
      : network(quality, seed),
        edge(network.add_node("198.51.100.10", kEdge)),
        hub(network.add_node("198.51.100.20", kHub)),
        reef_1(network.add_node("198.51.100.31", kHome)),
        reef_2(network.add_node("198.51.100.32", kHome)) {}

  // Request number n, from a source port of its own.
  Device& sign_in(int n, const char* password) {
    return add(n, "1812",
               access_request(static_cast<std::uint8_t>(n))
                   .authenticator(static_cast<std::uint8_t>(n * 7))
                   .user("tamu@reef.example")
                   .password(password)
                   .signed_with(secret("deck")));
  }
  Device& account(int n, const char* status, const std::string& session) {
    return add(n, "1813",
               accounting_request(status, session, static_cast<std::uint8_t>(n))
                   .user("tamu@reef.example")
                   .with("Acct-Session-Time", std::to_string(n))
                   .signed_with(secret("deck")));
  }
  Device& add(int n, const std::string& port, Octets request) {
    return network.add_device("192.0.2.9:" + std::to_string(1000 + n), "198.51.100.10:" + port,
                              std::move(request), secret("deck"));
  }
  void expect_counters_to_add_up() {
    for (const Node* node : {&edge, &hub, &reef_1, &reef_2}) {
      std::uint64_t ended = 0;
      for (std::size_t i = 0; i < engine::kOutcomes; ++i)
        ended += node->counters().count(static_cast<Outcome>(i));
      EXPECT_EQ(node->counters().received_count(), ended + node->in_flight());
    }
  }

  Network network;
  Node& edge;
  Node& hub;
  Node& reef_1;
  Node& reef_2;
};

TEST(SimulatedChain, SignInsCrossAnUndisturbedChain) {
  Chain chain({}, 1);
  const Device& right = chain.sign_in(1, "ombak-3");
  const Device& wrong = chain.sign_in(2, "ombak-4");
  chain.network.run(60s);
  EXPECT_EQ(right.answer(), Code::access_accept);
  EXPECT_EQ(wrong.answer(), Code::access_reject);
  EXPECT_EQ(right.replies(), 1);
  EXPECT_EQ(chain.edge.counters().count(Outcome::accepted), 1U);
  chain.expect_counters_to_add_up();
}

class LossyChain : public testing::TestWithParam<unsigned> {};

TEST_P(LossyChain, EverySignInStillEndsRight) {  // three of ten datagrams are lost, one of ten comes twice
  Chain chain({0.3, 0.1, 1ms, 80ms}, GetParam());
  std::vector<std::pair<Device*, Code>> expected;
  for (int n = 0; n < 120; ++n) {
    const bool right = n % 3 != 0;
    expected.emplace_back(&chain.sign_in(n, right ? "ombak-3" : "wrong"),
                          right ? Code::access_accept : Code::access_reject);
  }
  chain.network.run(600s);
  for (const auto& [device, answer] : expected) EXPECT_EQ(device->answer(), answer) << device->own.text();
  chain.expect_counters_to_add_up();
}

TEST_P(LossyChain, EveryAccountingRecordArrivesAtEveryHopOnce) {
  Chain chain({0.3, 0.1, 1ms, 80ms}, GetParam());
  std::vector<Device*> devices;
  for (int session = 0; session < 20; ++session) {
    const std::string id = "s" + std::to_string(session);
    devices.push_back(&chain.account(3 * session, "Start", id));
    devices.push_back(&chain.account(3 * session + 1, "Interim-Update", id));
    devices.push_back(&chain.account(3 * session + 2, "Stop", id));
  }
  chain.network.run(1200s);
  for (const Device* device : devices) EXPECT_EQ(device->answer(), Code::accounting_response);
  EXPECT_EQ(chain.edge.store().records().size(), 60U);
  EXPECT_EQ(chain.hub.store().records().size(), 60U);
  // A record whose acknowledgement was lost may have reached the second home as well as the first: at each,
  // once.
  std::set<std::pair<std::string, accounting::StatusType>> seen;
  for (const Node* home : {&chain.reef_1, &chain.reef_2}) {
    std::set<std::pair<std::string, accounting::StatusType>> here;
    for (const auto& record : home->store().records()) {
      EXPECT_TRUE(here.emplace(record.session_id, record.status).second) << record.session_id;
    }
    seen.merge(here);
  }
  EXPECT_EQ(seen.size(), 60U);
  EXPECT_EQ(chain.edge.store().waiting(), 0U);
  EXPECT_EQ(chain.hub.store().waiting(), 0U);
  chain.expect_counters_to_add_up();
}

INSTANTIATE_TEST_SUITE_P(Seeds, LossyChain, testing::Range(1U, 9U));

TEST(SimulatedChain, WhenAHomeFallsSilentTheOtherAnswers) {
  Chain chain({}, 3);
  chain.reef_1.silent = true;
  std::vector<Device*> devices;
  for (int n = 0; n < 40; ++n) devices.push_back(&chain.sign_in(n, "ombak-3"));
  chain.network.run(60s);
  for (const Device* device : devices) EXPECT_EQ(device->answer(), Code::access_accept);
  EXPECT_EQ(chain.reef_1.counters().received_count(), 0U);
  EXPECT_GE(chain.reef_2.counters().count(Outcome::accepted), 40U);
}

TEST(SimulatedChain, TheHomesShareByWeight) {
  Chain chain({}, 5);
  for (int n = 0; n < 400; ++n) chain.sign_in(n, "ombak-3");
  chain.network.run(60s);
  EXPECT_NEAR(static_cast<double>(chain.reef_1.counters().count(Outcome::accepted)), 300, 35);
  EXPECT_EQ(chain.hub.counters().count(Outcome::accepted), 400U);
}

TEST(SimulatedChain, AccountingWaitsForARadioLinkThatIsGone) {
  Chain chain({}, 7);
  chain.hub.silent = true;
  const Device& start = chain.account(1, "Start", "s1");
  const Device& stop = chain.account(2, "Stop", "s1");
  chain.network.run(120s);
  EXPECT_EQ(start.answer(), Code::accounting_response);  // the ship keeps it, the device is served
  EXPECT_EQ(stop.answer(), Code::accounting_response);
  EXPECT_EQ(chain.edge.store().waiting(), 2U);
  chain.hub.silent = false;
  chain.network.run(60s);
  EXPECT_EQ(chain.edge.store().waiting(), 0U);
  ASSERT_EQ(chain.hub.store().records().size(), 2U);
  for (const auto& record : chain.hub.store().records()) {
    const auto late = record.received - record.event_time;  // Acct-Delay-Time tells how old the event is
    EXPECT_GE(late, 110s);  // an attempt says how old it was when the first of its kind was sent
    EXPECT_LE(late, 190s);
  }
}

}  // namespace
}  // namespace jembatan::sim
