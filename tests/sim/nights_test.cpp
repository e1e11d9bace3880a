// The nights that a hub is judged by: homes that flap, all of them down, storms. Each prints what was lost.
#include <gtest/gtest.h>

#include <fmt/format.h>

#include "sim/network.h"
#include "support/packets.h"

namespace jembatan::sim {
namespace {

using namespace std::chrono_literals;
using engine::Outcome;
using support::access_request;
using support::secret;
using wire::Code;

constexpr const char* kHarbour = R"(
[[client]]
name = "ships"
address = "192.0.2.0/24"
secret = "deck"
[[realm]]
name = "reef.example"
handle = "group:homes"
[[realm]]
name = "harbour.example"
handle = "here"
[[user]]
name = "budi@harbour.example"
password = { clear = "dermaga-2" }
[[group]]
name = "homes"
answer_within = "500ms"
attempts = 1
down_after = 3
try_again_every = "5s"
[[group.server]]
name = "home-1"
address = "198.51.100.31"
secret = "radio"
weight = 3
[[group.server]]
name = "home-2"
address = "198.51.100.32"
secret = "radio"
)";

constexpr const char* kHomePlan = R"(
[[client]]
name = "harbour"
address = "198.51.100.20"
secret = "radio"
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "sari@reef.example"
password = { clear = "laut-biru-7" }
)";

struct Night {
  explicit Night(LinkQuality quality = {}) : network(quality, 7) {}

  // A sign-in from a port of its own.
  Device& sign_in(std::string_view user = "sari@reef.example", std::string_view password = "laut-biru-7",
                  std::string_view with = "deck") {
    ++number;
    const auto identifier = static_cast<std::uint8_t>(number);
    return network.add_device(fmt::format("192.0.2.{}:{}", 1 + number / 60000, 1000 + number % 60000),
                              "198.51.100.20:1812",
                              access_request(identifier)
                                  .authenticator(identifier)
                                  .user(user)
                                  .password(password)
                                  .signed_with(secret(with)),
                              secret(with));
  }
  // So many a second, half of them of somebody whom nobody knows.
  void load(std::chrono::seconds time, int each_second) {
    for (auto i = 0s; i < time; ++i) {
      for (int k = 0; k < each_second; ++k) {
        right.push_back(&sign_in());
        wrong.push_back(&sign_in("stranger@reef.example"));
      }
      network.run(1s);
    }
  }
  static std::size_t count(const std::vector<const Device*>& devices, std::optional<Code> answer) {
    return static_cast<std::size_t>(std::count_if(
        devices.begin(), devices.end(), [&](const Device* device) { return device->answer() == answer; }));
  }
  // Nobody gets an answer that he should not get; gives how many got none.
  std::size_t lost(const std::string& night) {
    network.run(60s);
    EXPECT_EQ(count(right, Code::access_reject), 0U);
    EXPECT_EQ(count(wrong, Code::access_accept), 0U);
    const std::size_t none = count(right, std::nullopt) + count(wrong, std::nullopt);
    fmt::print("{}: {} sign-ins, {} without an answer, 0 wrong answers\n", night, right.size() + wrong.size(),
               none);
    return none;
  }

  Network network;
  Node& hub = network.add_node("198.51.100.20", kHarbour);
  Node& first = network.add_node("198.51.100.31", kHomePlan);
  Node& second = network.add_node("198.51.100.32", kHomePlan);
  int number = 0;
  std::vector<const Device*> right;
  std::vector<const Device*> wrong;
};

TEST(SimulatedNights, AHomeThatFlapsTenTimesRefusesNobody) {
  Night night;
  for (int cycle = 0; cycle < 10; ++cycle) {
    night.first.silent = true;
    night.load(7s, 5);
    night.first.silent = false;
    night.load(7s, 5);
  }
  EXPECT_EQ(night.lost("a home that flaps ten times"), 0U);
  EXPECT_EQ(night.hub.in_flight(), 0U);
}

TEST(SimulatedNights, AllHomesAreDownForAMinuteAndBack) {
  Night night;
  night.load(5s, 5);
  night.first.silent = true;
  night.second.silent = true;
  night.load(60s, 5);
  const Device& own = night.sign_in("budi@harbour.example", "dermaga-2");
  night.network.run(1s);
  EXPECT_EQ(own.answer(), Code::access_accept) << "the harbour's own people are not held up";
  night.first.silent = false;
  night.second.silent = false;
  night.load(6s, 5);  // after one try_again_every everything is well
  night.right.clear();
  night.wrong.clear();
  night.load(5s, 5);
  EXPECT_EQ(night.lost("after all homes were down for a minute"), 0U);
  EXPECT_EQ(night.hub.in_flight(), 0U);
}

TEST(SimulatedNights, ThirtyPercentOfEverythingIsLostAndEverySignInEndsRight) {
  Night night({0.3, 0, 1ms, 40ms});
  night.load(20s, 5);
  EXPECT_LE(night.lost("30 % of all datagrams are lost"), 2U);  // a device gives up after so many tries
}

// A device that sends each request a hundred times.
TEST(SimulatedNights, AStormOfRepeatsIsAskedOnce) {
  Night night;
  night.first.silent = true;
  night.second.silent = true;
  const Octets request = access_request(1)
                             .authenticator(1)
                             .user("sari@reef.example")
                             .password("laut-biru-7")
                             .signed_with(secret("deck"));
  for (int i = 0; i < 100; ++i)
    night.network.send(*Endpoint::parse("192.0.2.9:4000", 0), *Endpoint::parse("198.51.100.20:1812", 0),
                       request);
  night.network.run(30s);
  EXPECT_EQ(night.hub.counters().count(Outcome::repeat_waiting), 99U);
  EXPECT_EQ(night.hub.counters().count(Outcome::no_answer), 1U);
  night.first.silent = false;
  for (int i = 0; i < 100; ++i)
    night.network.send(*Endpoint::parse("192.0.2.9:4001", 0), *Endpoint::parse("198.51.100.20:1812", 0),
                       request);
  night.network.run(30s);
  EXPECT_LE(night.first.counters().received_count() + night.second.counters().received_count(), 2U);
  EXPECT_EQ(night.hub.counters().count(Outcome::accepted), 1U);
  fmt::print("a storm of 200 datagrams: {} requests at the homes\n",
             night.first.counters().received_count() + night.second.counters().received_count());
}

TEST(SimulatedNights, AWrongSecretAtFiveThousandASecondHoldsNobodyUp) {
  Night night;
  const Octets request = access_request(1)
                             .authenticator(1)
                             .user("sari@reef.example")
                             .password("laut-biru-7")
                             .signed_with(secret("wrong"));
  for (int second = 0; second < 2; ++second) {
    for (int i = 0; i < 5000; ++i)
      night.network.send(*Endpoint::parse(fmt::format("192.0.2.7:{}", 1000 + i), 0),
                         *Endpoint::parse("198.51.100.20:1812", 0), request);
    for (int i = 0; i < 10; ++i) night.right.push_back(&night.sign_in());
    night.network.run(1s);
  }
  EXPECT_EQ(night.lost("10,000 requests under a wrong secret beside it"), 0U);
  EXPECT_EQ(night.hub.counters().count(Outcome::wrong_signature), 10000U);
  EXPECT_EQ(
      night.first.counters().count(Outcome::accepted) + night.second.counters().count(Outcome::accepted),
      20U);
}

}  // namespace
}  // namespace jembatan::sim
