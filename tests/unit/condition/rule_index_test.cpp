#include "condition/rule_index.h"

#include <gtest/gtest.h>

#include <deque>
#include <random>

#include "support/packets.h"

namespace jembatan::condition {
namespace {

// What the index leads to is what looking at every rule leads to.
TEST(RuleIndex, FindsTheFirstRuleThatMatchesWhateverTheRulesAsk) {
  const std::vector<std::string> texts{R"(client == "deck-{}")",
                                       R"(realm == "r{}.example" and NAS-Port-Type == Virtual)",
                                       R"(client.label.place == "pier-{}" and not (realm == "r1.example"))",
                                       R"(NAS-Port == {})",
                                       R"(NAS-Port-Type == Virtual and user in ("u{}", "sari", "sari"))",
                                       R"(NAS-Identifier == "n{}")",
                                       R"(client == "deck-{}" or realm == "r2.example")",
                                       R"(not client == "deck-{}")",
                                       R"(any NAS-Identifier == "n{}")",
                                       R"(NAS-IP-Address == 192.0.2.{})",
                                       R"(client.label.kind in ("k{}", "k1"))"};
  std::mt19937 chance(7);
  const auto below = [&](std::size_t count) { return chance() % count; };
  for (int round = 0; round < 200; ++round) {
    std::deque<Condition> rules;
    RuleIndex index;
    for (std::size_t i = 0; i < 12; ++i) {
      std::string text = texts[below(texts.size())];
      text.replace(text.find("{}"), 2, std::to_string(below(4)));
      std::vector<Mistake> mistakes;
      auto rule = Condition::parse(text, dictionary::standard(), mistakes);
      ASSERT_TRUE(rule) << text;
      index.add(&rules.emplace_back(std::move(*rule)));
    }
    const std::string number = std::to_string(below(4));
    const std::string client = "deck-" + number;
    const std::string realm = "r" + std::to_string(below(4)) + ".example";
    const std::map<std::string, std::string> labels{{"place", "pier-" + number}, {"kind", "k" + number}};
    const Octets octets = support::access_request()
                              .with("NAS-Port", std::to_string(below(4)))
                              .with("NAS-Identifier", "n" + std::to_string(below(4)))
                              .with("NAS-Identifier", "n" + std::to_string(below(4)))
                              .with("NAS-Port-Type", below(2) == 0 ? "Virtual" : "Ethernet")
                              .with("NAS-IP-Address", "192.0.2." + number)
                              .signed_with(support::secret("laut"));
    const auto packet = *wire::PacketView::parse(octets);
    Facts facts;
    facts.packet = &packet;
    facts.catalogue = &dictionary::standard();
    facts.client = client;
    facts.realm = realm;
    facts.user = below(2) == 0 ? "sari" : "u1";
    facts.labels = &labels;
    std::size_t wanted = rules.size();
    for (std::size_t i = rules.size(); i-- > 0;)
      if (rules[i].holds(facts)) wanted = i;
    std::size_t found = rules.size();
    std::size_t before = 0;
    index.first(facts, [&](std::size_t rule) {
      EXPECT_GE(rule, before);
      before = rule;
      if (rules[rule].holds(facts)) found = rule;
      return found == rule;
    });
    EXPECT_EQ(found, wanted) << "round " << round;
  }
}

TEST(RuleIndex, LooksAtFewOfMany) {
  std::deque<Condition> rules;
  RuleIndex index;
  for (int i = 0; i < 1000; ++i) {
    std::vector<Mistake> mistakes;
    index.add(&rules.emplace_back(*Condition::parse(
        "client.label.place == \"pier-" + std::to_string(i) + "\"", dictionary::standard(), mistakes)));
  }
  index.add(nullptr);
  const std::map<std::string, std::string> labels{{"place", "pier-999"}};
  Facts facts;
  facts.labels = &labels;
  std::vector<std::size_t> looked;
  EXPECT_FALSE(index.first(facts, [&](std::size_t rule) {
    looked.push_back(rule);
    return false;
  }));
  EXPECT_EQ(looked, (std::vector<std::size_t>{999, 1000}));
}

}  // namespace
}  // namespace jembatan::condition
