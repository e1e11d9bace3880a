#include "revision/objects.h"

#include "document/write.h"
#include "revision/edit.h"
#include "support/packets.h"
#include "unit/revision/plan_text.h"

namespace jembatan::revision {
namespace {

constexpr const char* kPlan = R"(
[realm_default]
unknown = "refuse"
[[realm]]
handle = "here"
name = "Reef.example"
[[client]]
secret = "laut biru di selat yang dalam"
labels = { place = "reef/kerapu", kind = "wireless" }
name = "kerapu"
address = "192.0.2.1"
note = "a \"quoted\" note,\twith \\ and \u0007"
[[client]]
name = "baronang"
address = "192.0.2.2"
secret = "laut hijau di selat yang dalam"
[[user]]
name = "sari@reef.example"
password = { clear = "x" }
reply = { vlan = 30, Filter-Id = ["crew", "deck"] }
[[group]]
name = "homes"
attempts = 1
[[group.server]]
address = "198.51.100.1"
name = "home.1"
secret = "danau yang tenang di pagi hari"
)";

std::string whole(const Objects& objects) {
  std::string out;
  for (const auto& file : files_of(objects)) out += "# " + file.name + "\n" + file.text;
  return out;
}

TEST(Objects, StandInTheirCanonicalOrderAndForm) {
  EXPECT_EQ(whole(objects_in(kPlan)), R"(# clients.toml
[[client]]
name = "baronang"
address = "192.0.2.2"
secret = "laut hijau di selat yang dalam"

[[client]]
name = "kerapu"
address = "192.0.2.1"
secret = "laut biru di selat yang dalam"
labels = { kind = "wireless", place = "reef/kerapu" }
note = "a \"quoted\" note,\twith \\ and \u0007"
# users.toml
[[user]]
name = "sari@reef.example"
password = { clear = "x" }
reply = { vlan = 30, Filter-Id = ["crew", "deck"] }
# groups.toml
[[group]]
name = "homes"
attempts = 1

  [[group.server]]
  name = "home.1"
  address = "198.51.100.1"
  secret = "danau yang tenang di pagi hari"
# realms.toml
[[realm]]
name = "Reef.example"
handle = "here"

[realm_default]
unknown = "refuse"
)");
}

TEST(Objects, AreTheSameAfterWritingAndReading) {
  const Objects once = objects_in(kPlan);
  std::string text;
  for (const auto& file : files_of(once)) text += file.text;
  Objects again = objects_in(text);
  EXPECT_EQ(whole(once), whole(again));
  EXPECT_TRUE(differences(once, again).empty());
  EXPECT_TRUE(support::plan_of(text));
}

TEST(Objects, NamesOfRealmsAndUsersAreFoundInAnyCase) {
  const Objects objects = objects_in(kPlan);
  EXPECT_NE(objects.find("realm", "reef.EXAMPLE"), nullptr);
  EXPECT_EQ(objects.find("client", "KERAPU"), nullptr);
}

TEST(Differences, AreObjectsAndFields) {
  const Objects before = objects_in(kPlan);
  Objects after = before;
  Edit edit{Do::set,
            "client",
            "kerapu",
            {{"labels.place", document::text_value("reef/pier")}, {"note", std::nullopt}}};
  ASSERT_TRUE(apply(edit, after));
  ASSERT_TRUE(apply({Do::remove, "client", "baronang", {}}, after));
  ASSERT_TRUE(apply({Do::add, "realm", "lagoon.example", {{"handle", document::text_value("here")}}}, after));
  ASSERT_TRUE(apply(
      {Do::set, "group", "homes", {{"server.home.1.address", document::text_value("198.51.100.2")}}}, after));
  EXPECT_EQ(changes_text(differences(before, after)),
            "removed client baronang\n"
            "changed client kerapu; labels.place: \"reef/kerapu\" -> \"reef/pier\"; "
            "note: \"a \\\"quoted\\\" note,\\twith \\\\ and \\u0007\" -> \n"
            "changed group homes; server.home.1.address: \"198.51.100.1\" -> \"198.51.100.2\"\n"
            "added realm lagoon.example\n");
}

TEST(Differences, NeverShowASecret) {
  const Objects before = objects_in(kPlan);
  Objects after = before;
  ASSERT_TRUE(apply({Do::set, "client", "kerapu", {{"secret", document::text_value("ombak")}}}, after));
  ASSERT_TRUE(apply(
      {Do::set, "user", "sari@reef.example", {{"password.hash", document::text_value("$6$ab$cd")}}}, after));
  ASSERT_TRUE(
      apply({Do::set, "group", "homes", {{"server.home.1.secret", document::text_value("angin")}}}, after));
  EXPECT_EQ(changes_text(differences(before, after)),
            "changed client kerapu; secret: a secret -> another secret\n"
            "changed user sari@reef.example; password.clear: a secret -> ; password.hash:  -> a secret\n"
            "changed group homes; server.home.1.secret: a secret -> another secret\n");
}

TEST(Edit, NamesWhatItDoesNotFind) {
  Objects objects = objects_in(kPlan);
  EXPECT_EQ(apply({Do::set, "client", "kerapo", {}}, objects).error().text,
            "client 'kerapo' not found; nearest: 'kerapu'");
  EXPECT_EQ(apply({Do::add, "client", "kerapu", {}}, objects).error().code, Errc::conflict);
  EXPECT_EQ(apply({Do::add, "cleint", "x", {}}, objects).error().text,
            "a plan has no 'cleint'; it has: dictionary, client, user, group, directory, factor, "
            "enrolment, realm, realm_default, "
            "sign_in, route, access, reply_set, edit");
  const Edit below_text{Do::set, "client", "kerapu", {{"note.more", document::text_value("x")}}};
  EXPECT_EQ(apply(below_text, objects).error().text,
            "client 'kerapu': 'note.more': 'note' is text, nothing stands below it");
  const Edit same_name{Do::set, "client", "kerapu", {{"name", document::text_value("baronang")}}};
  EXPECT_EQ(apply(same_name, objects).error().code, Errc::conflict);
}

TEST(Edit, ServersAreMadeAndTakenAwayByTheirNames) {
  Objects objects = objects_in(kPlan);
  ASSERT_TRUE(
      apply({Do::set, "group", "homes", {{"server.home-2.address", document::text_value("198.51.100.3")}}},
            objects));
  EXPECT_NE(objects.find("group", "homes")->text.find("name = \"home-2\"\n  address = \"198.51.100.3\""),
            std::string::npos);
  ASSERT_TRUE(apply({Do::set, "group", "homes", {{"server.home.1", std::nullopt}}}, objects));
  EXPECT_EQ(objects.find("group", "homes")->text.find("home.1"), std::string::npos);
}

TEST(Edit, ARenamedObjectKeepsTheRest) {
  Objects objects = objects_in(kPlan);
  ASSERT_TRUE(apply({Do::set, "client", "kerapu", {{"name", document::text_value("kakap")}}}, objects));
  EXPECT_EQ(objects.find("client", "kerapu"), nullptr);
  ASSERT_NE(objects.find("client", "kakap"), nullptr);
  EXPECT_NE(objects.find("client", "kakap")->text.find("192.0.2.1"), std::string::npos);
}

std::string rules(const std::vector<std::string>& names) {
  std::string out;
  for (const std::string& name : names) out += "[[access]]\nname = \"" + name + "\"\npermit = true\n";
  return out;
}

std::string order(const Objects& objects) {
  std::string out;
  for (const Object* rule : objects.list("access")) out += rule->name;
  return out;
}

TEST(Rules, AMoveIsOneChange) {
  const Objects before = objects_in(rules({"a", "b", "c", "d", "e"}));
  Objects after = before;
  Edit move{Do::move, "access", "d"};
  move.before = "b";
  ASSERT_TRUE(apply(move, after));
  EXPECT_EQ(order(after), "adbce");
  EXPECT_EQ(changes_text(differences(before, after)), "moved access d before 'b'\n");
  EXPECT_EQ(order(after), "adbce");
  Edit first{Do::move, "access", "e"};
  first.first = true;
  ASSERT_TRUE(apply(first, after));
  EXPECT_EQ(order(after), "eadbc");
  EXPECT_EQ(changes_text(differences(before, after)),
            "moved access e before 'a'\nmoved access d before 'b'\n");
  ASSERT_TRUE(apply({Do::move, "access", "e"}, after));
  EXPECT_EQ(order(after), "adbce");
}

TEST(Rules, AFolderWithAnotherOrderIsMoves) {
  const Objects before = objects_in(rules({"a", "b", "c", "d"}));
  Objects after = objects_in(rules({"b", "x", "c", "d", "a"}));
  EXPECT_EQ(changes_text(differences(before, after)), "added access x before 'c'\nmoved access a last\n");
  EXPECT_EQ(order(after), "bxcda");
}

TEST(Rules, MovesFindRoomAgainAndAgain) {
  Objects now = objects_in(rules({"a", "b", "c", "d"}));
  Objects numbered = now;
  (void)differences(Objects{}, numbered);
  for (int i = 0; i < 100; ++i) {
    Objects next = numbered;
    Edit move{Do::move, "access", i % 2 == 0 ? "d" : "c"};
    move.before = i % 2 == 0 ? "c" : "d";
    ASSERT_TRUE(apply(move, next));
    const std::string wanted = order(next);
    (void)differences(numbered, next);
    EXPECT_EQ(order(next), wanted) << i;
    numbered = next;
  }
}

TEST(Rules, AMoveNeedsAnOrderAndAPlace) {
  Objects objects = objects_in(rules({"a", "b"}));
  Edit nowhere{Do::move, "access", "a"};
  nowhere.before = "z";
  EXPECT_EQ(apply(nowhere, objects).error().code, Errc::not_found);
  EXPECT_EQ(apply({Do::move, "client", "x"}, objects).error().code, Errc::not_found);
}

}  // namespace
}  // namespace jembatan::revision
