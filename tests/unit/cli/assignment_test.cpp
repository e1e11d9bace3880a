#include "cli/assignment.h"

#include <gtest/gtest.h>

#include <nlohmann/json.hpp>

namespace jembatan::cli {
namespace {

std::string read(const std::string& text) {
  nlohmann::json fields = nlohmann::json::object();
  const Status done = read_assignment(text, fields);
  return done ? fields.dump() : done.error().text;
}

TEST(Assignment, ValuesHaveTheTypeThatTheirFieldWants) {
  EXPECT_EQ(read("requests_per_second=50"), R"({"requests_per_second":50})");
  EXPECT_EQ(read("waits=20s"), R"({"waits":"20s"})");
  EXPECT_EQ(read("enabled=yes"), R"({"enabled":"yes"})");
  EXPECT_EQ(read("enabled=false"), R"({"enabled":false})");
  EXPECT_EQ(read("labels.deck=2"), R"({"labels.deck":"2"})");
  EXPECT_EQ(read("note=2026"), R"({"note":"2026"})");
  EXPECT_EQ(read("message=[closed]"), R"({"message":"[closed]"})");
  EXPECT_EQ(read("groups+=crew"), R"({"groups+":"crew"})");
  EXPECT_EQ(read("accounting=[\"here\", \"group:x\"]"), R"({"accounting":["here","group:x"]})");
}

TEST(Assignment, NothingAndNullTakeAway) {
  EXPECT_EQ(read("note="), R"({"note":null})");
  EXPECT_EQ(read("waits=null"), R"({"waits":null})");
}

TEST(Assignment, MomentsAreWrittenAsEverywhere) {
  EXPECT_EQ(read("valid_until=2026-12-01"), R"({"valid_until":"2026-12-01T00:00:00.000Z"})");
  EXPECT_EQ(read("valid_from=2026-12-01T08:00:00+08:00"), R"({"valid_from":"2026-12-01T00:00:00.000Z"})");
  EXPECT_EQ(read("valid_until=soon"),
            "valid_until: 'soon' is no time; allowed: 10m (from now on), 04:30, 2026-11-23, 2026-11-23 04:30 "
            "(UTC), "
            "2026-11-23T04:30:00+08:00");
}

TEST(Assignment, MistakesAreToldWithTheRightForm) {
  EXPECT_EQ(read("waits"), "'waits' is no KEY=VALUE, like waits=20s, labels.place=reef or groups+=crew");
  EXPECT_EQ(read("secret=laut"),
            "'secret=…' can be seen by everybody on this machine; allowed: secret=@FILE, or secret=generate");
  EXPECT_EQ(read("reply.Tunnel-Password[1]=laut"),
            "'reply.Tunnel-Password[1]=…' can be seen by everybody on this machine; allowed: "
            "reply.Tunnel-Password[1]=@FILE, or reply.Tunnel-Password[1]=generate");
  EXPECT_EQ(read("set.69=laut").substr(0, 10), "'set.69=\xE2\x80");
  EXPECT_EQ(read("add.Strait-Door-Password=4711").substr(0, 26), "'add.Strait-Door-Password=");
  EXPECT_EQ(read("reply.Filter-Id=laut"), R"({"reply.Filter-Id":"laut"})");
  EXPECT_EQ(read("probe={ user = \"x\", secret = \"laut\" }").substr(0, 16), "'probe.secret=\xE2\x80");
  EXPECT_EQ(read("server=[{ name = \"a\", secret = \"laut\" }]").substr(0, 17), "'server.secret=\xE2\x80");
  EXPECT_EQ(read("probe=status-server"), R"({"probe":"status-server"})");
}

}  // namespace
}  // namespace jembatan::cli
