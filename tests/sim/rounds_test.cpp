// Conversations of several rounds through a chain, from worker to worker, every datagram twice.
#include <gtest/gtest.h>

#include <algorithm>

#include "sim/network.h"
#include "support/packets.h"
#include "wire/packet.h"

namespace jembatan::sim {
namespace {

using namespace std::chrono_literals;
using engine::Outcome;
using support::access_request;
using support::secret;
using wire::Code;

constexpr const char* kForwards = R"(
[[client]]
name = "before"
address = "{before}"
secret = "{secret}"
[realm_default]
unknown = "group:next"
[[group]]
name = "next"
answer_within = "700ms"
[[group.server]]
name = "next-1"
address = "{next}"
secret = "radio"
)";

constexpr const char* kScriptedHome = R"(
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
[[access]]
name = "by the script"
when = 'method == "pap/scripted"'
permit = true
)";

std::string forwards(std::string before, std::string with, std::string next) {
  std::string out = kForwards;
  const auto fill = [&out](std::string_view place, const std::string& value) {
    out.replace(out.find(place), place.size(), value);
  };
  fill("{before}", before);
  fill("{secret}", with);
  fill("{next}", next);
  return out;
}

// Asks for "one", then "two", then "three", in the place of the password.
class Scripted final : public decide::Method {
 public:
  std::variant<decide::Challenge, decide::Proof> on(const wire::PacketView& request,
                                                    decide::HiddenValues& hidden) override {
    static constexpr std::string_view kWords[] = {"one", "two", "three"};
    const auto typed = hidden.open(dictionary::Hiding::user_password,
                                   request.find(wire::AttributeType::user_password)->value);
    if (!typed || text_of(*typed) != kWords[round_]) return decide::Proof{false, "wrong word"};
    if (++round_ == 3) return decide::Proof{true, {}, {}, {}, "pap/scripted"};
    Octets attributes;
    const std::string asks = "word " + std::to_string(round_ + 1);
    attributes.push_back(static_cast<std::uint8_t>(wire::AttributeType::reply_message));
    attributes.push_back(static_cast<std::uint8_t>(asks.size() + 2));
    append(attributes, view_of(asks));
    return decide::Challenge{attributes};
  }

 private:
  std::size_t round_ = 0;
};

struct Rounds {
  Rounds()
      : network({0, 1.0, 1ms, 20ms}, 3),
        edge(network.add_node("198.51.100.10", forwards("192.0.2.0/24", "deck", "198.51.100.20"))),
        hub(network.add_node("198.51.100.20", forwards("198.51.100.10", "radio", "198.51.100.31"))),
        home(network.add_node("198.51.100.31", kScriptedHome, [](engine::Settings& settings) {
          settings.begin_method = [](const decide::Course&) { return std::make_unique<Scripted>(); };
        })) {}

  // The next round, from a port of its own.
  const Device& say(std::string_view word, const Octets& state = {}, const char* user = "sari@reef.example") {
    ++port;
    const auto identifier = static_cast<std::uint8_t>(port);
    auto request = access_request(identifier).authenticator(identifier).user(user).password(word);
    if (!state.empty()) request.with("State", "0x" + to_hex(state));
    const Device& out = network.add_device("192.0.2.9:" + std::to_string(port), "198.51.100.10:1812",
                                           request.signed_with(secret("deck")), secret("deck"));
    network.run(10s);
    return out;
  }
  static Octets state_of(const Device& device) {
    const auto state = wire::PacketView::parse(device.reply())->find(wire::AttributeType::state);
    return state ? Octets(state->value.begin(), state->value.end()) : Octets{};
  }

  Network network;
  Node& edge;
  Node& hub;
  Node& home;
  int port = 1000;
};

TEST(SimulatedRounds, ThreeRoundsThroughTheChain) {
  Rounds chain;
  const Device& first = chain.say("one");
  ASSERT_EQ(first.answer(), Code::access_challenge);
  EXPECT_EQ(support::value_in(first.reply(), "Reply-Message"), "\"word 2\"");
  const Octets state = Rounds::state_of(first);
  EXPECT_EQ(state.size(), 16U);
  const Device& second = chain.say("two", state);
  ASSERT_EQ(second.answer(), Code::access_challenge);
  EXPECT_NE(Rounds::state_of(second), state);
  const Device& third = chain.say("three", Rounds::state_of(second));
  EXPECT_EQ(third.answer(), Code::access_accept);
  EXPECT_EQ(chain.home.counters().count(Outcome::challenged), 2U);
  EXPECT_EQ(chain.home.counters().count(Outcome::accepted), 1U);
  for (const Node* node : {&chain.edge, &chain.hub, &chain.home}) EXPECT_EQ(node->in_flight(), 0U);
}

TEST(SimulatedRounds, AStateServesOnce) {
  Rounds chain;
  const Octets state = Rounds::state_of(chain.say("one"));
  EXPECT_EQ(chain.say("two", state).answer(), Code::access_challenge);
  EXPECT_EQ(chain.say("two", state).answer(), Code::access_reject);
}

TEST(SimulatedRounds, AWrongWordEndsTheConversation) {
  Rounds chain;
  const Octets state = Rounds::state_of(chain.say("one"));
  EXPECT_EQ(chain.say("three", state).answer(), Code::access_reject);
  EXPECT_EQ(chain.say("two", state).answer(), Code::access_reject);
}

TEST(SimulatedRounds, AConversationBelongsToWhoBeganIt) {
  Rounds chain;
  const Octets state = Rounds::state_of(chain.say("one"));
  EXPECT_EQ(chain.say("two", state, "tamu@reef.example").answer(), Code::access_reject);
}

constexpr const char* kTwoHomes = R"(
[[client]]
name = "before"
address = "192.0.2.0/24"
secret = "deck"
[realm_default]
unknown = "group:homes"
[[group]]
name = "homes"
answer_within = "300ms"
attempts = 2
down_after = 3
[[group.server]]
name = "one"
address = "198.51.100.31"
secret = "radio"
[[group.server]]
name = "two"
address = "198.51.100.32"
secret = "radio"
)";

// A hub before two homes, and many people who talk to them at the same time.
struct ManyTalks {
  ManyTalks()
      : hub(network.add_node("198.51.100.20", kTwoHomes)),
        one(home("198.51.100.31")),
        two(home("198.51.100.32")) {}
  Node& home(const std::string& at) {
    return network.add_node(at, kScriptedHome, [](engine::Settings& settings) {
      settings.begin_method = [](const decide::Course&) { return std::make_unique<Scripted>(); };
    });
  }
  // Everybody says the word, with the State of what they were answered last; ports, and so workers, change.
  std::vector<const Device*> all_say(std::string_view word, const std::vector<const Device*>& before,
                                     std::size_t people) {
    std::vector<const Device*> out;
    for (std::size_t i = 0; i < people; ++i) {
      ++port;
      const auto identifier = static_cast<std::uint8_t>(port);
      auto request = access_request(identifier)
                         .authenticator(static_cast<std::uint8_t>(port * 7))
                         .user("sari@reef.example")
                         .password(word);
      if (!before.empty()) request.with("State", "0x" + to_hex(Rounds::state_of(*before[i])));
      out.push_back(&network.add_device("192.0.2.9:" + std::to_string(port), "198.51.100.20:1812",
                                        request.signed_with(secret("deck")), secret("deck")));
    }
    network.run(20s);
    return out;
  }
  static std::size_t count(const std::vector<const Device*>& all, std::optional<Code> answer) {
    return static_cast<std::size_t>(std::count_if(
        all.begin(), all.end(), [&](const Device* device) { return device->answer() == answer; }));
  }
  Network network{{0.05, 0.2, 1ms, 20ms}, 9};
  Node& hub;
  Node& one;
  Node& two;
  int port = 1000;
};

TEST(SimulatedRounds, AHundredConversationsStayWithTheHomeTheyBeganWith) {
  ManyTalks talks;
  const auto first = talks.all_say("one", {}, 100);
  EXPECT_EQ(ManyTalks::count(first, Code::access_challenge), 100U);
  const auto second = talks.all_say("two", first, 100);
  EXPECT_EQ(ManyTalks::count(second, Code::access_challenge), 100U);
  const auto third = talks.all_say("three", second, 100);
  EXPECT_EQ(ManyTalks::count(third, Code::access_accept), 100U);
  EXPECT_GT(talks.one.counters().count(Outcome::accepted), 40U);
  EXPECT_GT(talks.two.counters().count(Outcome::accepted), 40U);
}

TEST(SimulatedRounds, AHomeThatDiesInTheMiddleEndsItsOwnConversationsAndNoOthers) {
  ManyTalks talks;
  const auto first = talks.all_say("one", {}, 100);
  talks.one.silent = true;
  const auto second = talks.all_say("two", first, 100);
  const std::size_t lost = ManyTalks::count(second, Code::access_reject);
  const std::size_t well = ManyTalks::count(second, Code::access_challenge);
  EXPECT_EQ(lost + well, 100U);  // nobody is left without an answer, and nobody gets a wrong one
  EXPECT_GE(lost, 40U);
  EXPECT_GE(well, 40U);
  EXPECT_EQ(talks.two.counters().count(Outcome::rejected),
            0U);  // no round came to a home that does not know it
  std::vector<const Device*> go_on;
  for (const Device* device : second)
    if (device->answer() == Code::access_challenge) go_on.push_back(device);
  const auto third = talks.all_say("three", go_on, go_on.size());
  EXPECT_EQ(ManyTalks::count(third, Code::access_accept), well);
  const auto anew = talks.all_say("one", {}, lost);  // and they can be begun anew, with the home that lives
  EXPECT_EQ(ManyTalks::count(anew, Code::access_challenge), lost);
}

}  // namespace
}  // namespace jembatan::sim
