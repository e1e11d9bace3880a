#include "cli/across.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

namespace jembatan::cli {
namespace {

using nlohmann::json;
using testing::Contains;
using testing::HasSubstr;

json leg(const std::string& server, const std::string& name, int asked_us, const json& answered_us,
         int times = 1) {
  return {{"server", server},
          {"leg", name},
          {"asked_us", asked_us},
          {"answered_us", answered_us},
          {"times", times}};
}

json entry(const std::string& came_as, const std::string& at, int took_us, const std::string& outcome,
           const json& legs = json::array(), const std::string& server = "") {
  return {{"number", 7},
          {"packet", "Access-Request"},
          {"user", "sari@reef.example"},
          {"client", "kerapu"},
          {"at", at},
          {"took_us", took_us},
          {"outcome", outcome},
          {"reason", "because of " + came_as},
          {"server", server},
          {"leg", came_as},
          {"legs", legs}};
}

class FakeJournals final : public Journals {
 public:
  std::map<std::string, std::vector<json>> nodes;
  std::optional<Found> find(const std::string& name, As as) override {
    for (const auto& [node, entries] : nodes) {
      for (const json& one : entries) {
        const json& legs = one.at("legs");
        const bool sent =
            std::any_of(legs.begin(), legs.end(), [&](const json& l) { return l.at("leg") == name; });
        if (as == As::received ? one.at("leg") == name : sent)
          return Found{node, std::make_shared<const json>(one)};
      }
    }
    return std::nullopt;
  }
};

class Across : public testing::Test {
 protected:
  // edge → hub → reef-1, whose clock may differ; the hub has asked reef-9 in vain before.
  explicit Across(const std::string& home_at = "2026-11-26T02:00:00.098Z") {
    journals.nodes["edge"] = {entry("d0", "2026-11-26T02:00:00.100Z", 90000, "rejected",
                                    json::array({leg("harbour/hub", "e1", 1000, 89000)}), "harbour/hub")};
    journals.nodes["hub"] = {entry(
        "e1", "2026-11-26T02:00:00.099Z", 86000, "rejected",
        json::array({leg("homes/reef-9", "h1", 500, nullptr, 2), leg("homes/reef-1", "h2", 50500, 85000)}),
        "homes/reef-1")};
    journals.nodes["reef-1"] = {entry("h2", home_at, 30000, "rejected")};
  }
  std::vector<std::string> lines_from(const std::string& node) {
    std::vector<std::string> out;
    for (const LadderLine& line :
         ladder_of(way_of(node, std::make_shared<const json>(journals.nodes.at(node).front()), journals)))
      out.push_back(line.text);
    return out;
  }
  FakeJournals journals;
};

TEST_F(Across, TheWholeWayIsToldFromAnyOfItsHops) {
  const auto lines = lines_from("edge");
  EXPECT_EQ(lines_from("hub"), lines);
  EXPECT_EQ(lines_from("reef-1"), lines);
  EXPECT_EQ(lines.at(1), "   0.0 ms  edge        ← Access-Request from client kerapu (request 7)");
  EXPECT_THAT(lines, Contains("   1.0 ms  edge        → harbour/hub"));
  EXPECT_THAT(lines, Contains("   2.5 ms      ?       no node that is known has it"));
  EXPECT_THAT(lines, Contains("   2.5 ms    hub       → homes/reef-9, 2 times"));
  EXPECT_THAT(lines, Contains("  84.8 ms      reef-1  rejected: because of h2"));
  EXPECT_THAT(lines, Contains("  90.0 ms  edge        rejected: because of d0"));
}

TEST_F(Across, WhoDecidedAndWhereTheTimeWent) {
  const auto lines = lines_from("edge");
  EXPECT_THAT(lines, Contains("reef-1 decided: rejected (because of h2)"));
  EXPECT_EQ(lines.back(),
            "where the time went: edge 2.0 ms, between edge and hub 2.0 ms, hub 1.5 ms, in vain for "
            "homes/reef-9 50.0 "
            "ms, between hub and reef-1 4.5 ms, reef-1 30.0 ms");
}

TEST_F(Across, AHopThatNobodyKnowsIsAGap) {
  journals.nodes.erase("hub");
  const auto lines = lines_from("edge");
  EXPECT_THAT(lines, Contains("   1.0 ms    ?   no node that is known has it"));
  EXPECT_THAT(lines, Contains("edge decided: rejected (because of d0)"));
  EXPECT_THAT(lines.back(), HasSubstr("beyond, at harbour/hub 88.0 ms"));
}

TEST_F(Across, ACircleEnds) {
  journals.nodes["reef-1"] = {entry("h2", "2026-11-26T02:00:00.098Z", 30000, "rejected",
                                    json::array({leg("back/edge", "d0", 100, 200)}))};
  EXPECT_GT(lines_from("edge").size(), 5U);
}

class OtherClock : public Across {
 protected:
  OtherClock() : Across("2026-11-26T02:00:03.098Z") {}
};

TEST_F(OtherClock, IsTold) {
  EXPECT_EQ(lines_from("edge").back(), "the clock of reef-1 is some 3.0 s ahead of that of hub");
  const json document =
      ladder_json(way_of("edge", std::make_shared<const json>(journals.nodes.at("edge").front()), journals));
  const json& to_home = document.at("sent").at(0).at("hop").at("sent").at(1);
  EXPECT_NEAR(to_home.at("clock_ahead_s").get<double>(), 3.0, 0.1);
  EXPECT_EQ(to_home.at("hop").at("node"), "reef-1");
}

}  // namespace
}  // namespace jembatan::cli
