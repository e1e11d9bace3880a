// Deciding across three real servers: names in all forms, edits at four points, VLANs by group and place, and
// a gateway that vouches for its users.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::HasSubstr;
using testing::Not;

constexpr const char* kEdge = R"(
[sign_in]
name_forms = ["user@realm", 'realm\user']
[realm_default]
unknown = "group:harbour"
missing = { assume = "reef.example" }
[[edit]]
name = "which ship"
at = "forwarding"
set = { NAS-Identifier = "reef/kerapu/{NAS-Port-Id}" }
[[edit]]
name = "greet"
at = "replying"
when = 'code == Access-Accept'
add = { Reply-Message = "Aboard as {user}." }
)";

constexpr const char* kHub = R"(
[sign_in]
name_forms = ["user@realm", 'realm\user']
[[realm]]
name = "reef.example"
aliases = ["reef", "reef-line.example"]
handle = "group:reef-homes"
[[edit]]
name = "our filters alone"
at = "answered"
when = 'group == "reef-homes"'
remove = ["Filter-Id"]
)";

constexpr const char* kHome = R"(
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "sari@reef.example"
password = { clear = "laut-biru-7" }
groups = ["crew"]
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
groups = ["passengers"]
[[edit]]
name = "deck behind the ship"
at = "received"
rewrite = { NAS-Identifier = '^(?P<ship>reef/[a-z]+)/(?P<deck>.+)$' }
set = { NAS-Identifier = "{match.ship}", NAS-Port-Id = "{match.deck}" }
[[reply_set]]
name = "aboard"
reply = { Filter-Id = "{NAS-Identifier}-{NAS-Port-Id}" }
[[access]]
name = "through the gateway"
when = 'NAS-Port-Type == Virtual'
proof = "client"
permit = true
reply = { Service-Type = "Administrative" }
[[access]]
name = "crew aboard"
when = 'member of "crew" and NAS-Identifier under "reef/kerapu" and NAS-Port-Id == "deck-2"'
permit = true
also = ["aboard"]
reply = { vlan = 30, Class = "{user} on {NAS-Port-Id}" }
[[access]]
name = "passengers"
when = 'member of "passengers"'
permit = true
also = ["aboard"]
reply = { vlan = 40, Session-Timeout = "2h" }
)";

class DecidingChain : public testing::Test {
 protected:
  void SetUp() override {
    home.plan(client_here("reef-secret") + kHome);
    hub.plan(client_here("radio-secret") + group_to("reef-homes", home, "reef-secret") + kHub);
    edge.plan(client_here("deck-secret") + group_to("harbour", hub, "radio-secret") + kEdge);
    home.start();
    hub.start();
    edge.start();
  }
  support::Finished sign_in(const std::string& user, const std::string& password,
                            const std::string& deck = "deck-2") {
    return client({"ask", "access", "--to", edge.access_to(), "--secret", "deck-secret", "--user", user,
                   "--password", password, "NAS-Port-Id=" + deck});
  }
  // The trail of the newest request in a node's journal.
  static std::string newest_trail(const TestNode& node) {
    const json found = node.ask_node({"journal", "search", "--most", "1"})["requests"];
    if (found.empty()) return "";
    std::string out;
    const json entry = node.ask_node({"journal", "show", std::to_string(found[0]["number"].get<int>())});
    for (const json& line : entry["trail"]) out += line.get<std::string>() + "\n";
    return out;
  }

  TestNode edge{"edge"};
  TestNode hub{"hub"};
  TestNode home{"home"};
};

TEST_F(DecidingChain, NamesOfEveryFormReachTheirHome) {
  for (const char* name :
       {"sari@reef.example", "Sari@REEF.example", "REEF\\sari", "sari", "sari@reef-line.example"}) {
    const auto asked = sign_in(name, "laut-biru-7");
    EXPECT_EQ(asked.exit_code, 0) << name << "\n" << asked.out;
    EXPECT_THAT(asked.out, HasSubstr("Tunnel-Private-Group-ID  \"30\"")) << name;
  }
  EXPECT_EQ(sign_in("sari@raef.example", "laut-biru-7").exit_code, 1);
  ASSERT_TRUE(support::eventually([&] { return newest_trail(hub).find("raef") != std::string::npos; }));
  EXPECT_THAT(newest_trail(hub), HasSubstr("(raef.example)\nnearest: 'reef.example'"));
}

TEST_F(DecidingChain, EditsAreDoneAtAllFourPoints) {
  const auto asked = sign_in("sari@reef.example", "laut-biru-7");
  EXPECT_EQ(asked.exit_code, 0) << asked.out;
  EXPECT_THAT(asked.out, HasSubstr("\"Aboard as sari.\""));      // at the edge, before replying
  EXPECT_THAT(asked.out, Not(HasSubstr("reef/kerapu-deck-2")));  // taken off at the hub, as answered
  ASSERT_TRUE(
      support::eventually([&] { return !newest_trail(home).empty() && !newest_trail(edge).empty(); }));
  EXPECT_THAT(newest_trail(home), HasSubstr("edit 1 'deck behind the ship' (received): set NAS-Identifier "
                                            "\"reef/kerapu\", set NAS-Port-Id \"deck-2\""));
  EXPECT_THAT(newest_trail(home), HasSubstr("Filter-Id \"reef/kerapu-deck-2\"  from reply set 'aboard'"));
  EXPECT_THAT(newest_trail(edge),
              HasSubstr("edit 1 'which ship' (forwarding): set NAS-Identifier \"reef/kerapu/deck-2\""));
  EXPECT_THAT(newest_trail(edge),
              HasSubstr("edit 2 'greet' (replying): added Reply-Message \"Aboard as sari.\""));
  EXPECT_THAT(newest_trail(hub), HasSubstr("edit 1 'our filters alone' (answered): removed Filter-Id"));
}

TEST_F(DecidingChain, GroupAndPlaceGiveTheVlan) {
  EXPECT_THAT(sign_in("sari@reef.example", "laut-biru-7").out, HasSubstr("Tunnel-Private-Group-ID  \"30\""));
  const auto passenger = sign_in("tamu@reef.example", "ombak-3", "deck-5");
  EXPECT_THAT(passenger.out, HasSubstr("Tunnel-Private-Group-ID  \"40\""));
  EXPECT_THAT(passenger.out, HasSubstr("Session-Timeout          7200"));
  EXPECT_EQ(sign_in("sari@reef.example", "laut-biru-7", "deck-5").exit_code, 1);
  ASSERT_TRUE(support::eventually(
      [&] { return newest_trail(home).find("no access rule matches") != std::string::npos; }));
  EXPECT_THAT(newest_trail(home), HasSubstr("access rule 2 'crew aboard': no, NAS-Port-Id == \"deck-2\" "
                                            "(NAS-Port-Id is \"deck-5\")"));
}

TEST_F(DecidingChain, AGatewayThatVouchesAsksWhatAUserMayDo) {
  const auto ask = [&](std::vector<std::string> more) {
    std::vector<std::string> words{"ask",          "access",      "--to",   edge.access_to(),
                                   "--secret",     "deck-secret", "--user", "sari@reef.example",
                                   "--no-password"};
    words.insert(words.end(), more.begin(), more.end());
    return client(words);
  };
  const auto asked = ask({"NAS-Port-Type=Virtual", "Service-Type=Authorize-Only"});
  EXPECT_EQ(asked.exit_code, 0) << asked.out;
  EXPECT_THAT(asked.out, HasSubstr("Administrative"));
  EXPECT_EQ(ask({"NAS-Port-Type=Ethernet"}).exit_code, 1);  // no rule with proof = client matches
}

}  // namespace
}  // namespace jembatan::blackbox
