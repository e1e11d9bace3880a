// Devices of other makers, as they are.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"
#include "support/postgres.h"

namespace jembatan::blackbox {
namespace {

using testing::HasSubstr;

// A database whose users sign in through an edge and a hub at their home (docs/devices.md).
TEST(Devices, PostgresqlSignsItsUsersInThroughThreeHops) {
  TestNode home("home");
  home.plan(kHere);
  home.start();
  TestNode hub("hub");
  hub.plan(client_here("selat") + group_to("homes", home, "laut") +
           "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\n");
  hub.start();
  TestNode edge("edge");
  const std::string to_hub =
      group_to("hubs", hub, "selat") + "[[realm]]\nname = \"reef.example\"\nhandle = \"group:hubs\"\n";
  edge.plan(client_here("geladak") + to_hub);
  edge.start();

  support::ScratchPostgres database;
  const auto access = [&](const std::string& secret) {
    return "host all all 127.0.0.1/32 radius radiusservers=\"127.0.0.1\" radiusports=\"" +
           std::to_string(edge.access) + "\" radiussecrets=\"" + secret +
           "\" radiusidentifiers=\"manifest-db\"\n";
  };
  database.start(access("geladak"));
  ASSERT_EQ(database.as_keeper("CREATE ROLE \"tamu@reef.example\" LOGIN").exit_code, 0);
  const auto sign_in = [&](const std::string& password) {
    return database.as("tamu@reef.example", password, "SELECT current_user");
  };

  // It does not sign its requests: refused in silence, and the edge says what to do.
  EXPECT_EQ(sign_in("ombak-3").exit_code, 2);
  EXPECT_THAT(client({"journal", "show", "1", "--node", edge.file()}).out,
              HasSubstr("message_authenticator = \"if-present\""));
  std::string patient = client_here("geladak");
  patient.insert(patient.find('\n', 2) + 1, "message_authenticator = \"if-present\"\n");
  edge.plan(patient + to_hub);
  ASSERT_EQ(client({"plan", "reload", "--node", edge.file()}).exit_code, 0);

  const auto right = sign_in("ombak-3");
  EXPECT_EQ(right.exit_code, 0) << right.error << database.log();
  EXPECT_EQ(right.out, "tamu@reef.example\n");
  const auto wrong = sign_in("ombak-4");
  EXPECT_EQ(wrong.exit_code, 2);
  EXPECT_THAT(wrong.error, HasSubstr("RADIUS authentication failed"));

  // Who answers why stands at the home; the edge tells who asked.
  EXPECT_TRUE(home.log_has("wrong password"));
  const nlohmann::json accepted =
      edge.ask_node({"journal", "search", "--outcome", "accepted"}).at("requests");
  ASSERT_EQ(accepted.size(), 1U);
  EXPECT_THAT(client({"journal", "show", accepted[0].at("number").dump(), "--node", edge.file()}).out,
              HasSubstr("manifest-db"));

  // A secret that differs: the password comes out wrong, and nothing says so but the edge.
  database.stop();
  database.start(access("geladag"));
  EXPECT_EQ(sign_in("ombak-3").exit_code, 2);
}

}  // namespace
}  // namespace jembatan::blackbox
