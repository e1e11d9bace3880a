// Revisions through the keeper into SQLite, and what happens when that cannot write.
#include "store/plan_store.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sys/stat.h>

#include "document/write.h"
#include "revision/since.h"
#include "unit/revision/plan_text.h"
#include "unit/store/keeper_on_disk.h"

namespace jembatan::store {
namespace {

using document::text_value;
using revision::Author;
using revision::Do;
using revision::Edit;
using revision::Keeper;
using revision::Role;
using revision::Wish;
using testing::HasSubstr;
using testing::Not;

constexpr const char* kPlan = R"(
[[client]]
name = "kerapu"
address = "192.0.2.1"
secret = { file = "kerapu" }
[[client]]
name = "pier"
address = "pier.strait.example"
secret = "angin kencang dari timur"
[[user]]
name = "Sari@reef.example"
password = { clear = "laut-biru-7" }
[[realm]]
name = "reef.example"
handle = "here"
)";

class PlanStoreTest : public testing::Test, protected KeeperOnDisk {
 protected:
  plan::Outside outside() {
    plan::Outside out;
    out.file = [](const std::string& name) -> Result<std::string> { return "the secret in file " + name; };
    out.resolve = [this](const std::string& host) -> Result<std::vector<IpAddress>> {
      if (host == "pier.strait.example") return std::vector{*IpAddress::parse(pier)};
      if (host == "homes.reef.example") return homes;
      return fail(Errc::not_found, "host name '" + host + "': not known");
    };
    return out;
  }
  Wish wish(std::string message = "", std::optional<std::uint64_t> base = {}) {
    return {{"wulan", Role::operator_, "127.0.0.1"},
            std::move(message),
            base,
            false,
            false,
            clock.now().wall,
            "apply"};
  }
  Result<revision::Applied> apply(const std::string& text, const Wish& with) {
    problems = {};
    const std::vector<plan::SourceFile> files{{"plan.toml", text}};
    return keeper->apply(files, outside(), with, problems);
  }
  Result<revision::Applied> change(const Edit& edit) {
    problems = {};
    Wish with = wish();
    with.what = "client set";
    return keeper->change({edit}, outside(), with, problems);
  }
  std::string all_files(Keeper::Secrets secrets = Keeper::Secrets::kept) {
    std::string out;
    const auto files = keeper->files(*store->newest(), secrets);
    for (const auto& file : *files) out += file.text;
    return out;
  }

  document::Problems problems;
  std::vector<IpAddress> homes{*IpAddress::parse("192.0.2.21"), *IpAddress::parse("192.0.2.22")};
  std::string pier = "192.0.2.9";
};

TEST_F(PlanStoreTest, AnEmptyStoreIsAnEmptyPlan) {
  const auto loaded = keeper->load(problems);
  ASSERT_TRUE(loaded);
  EXPECT_EQ(loaded->revision, 0U);
  EXPECT_TRUE(loaded->plan->clients.empty());
}

TEST_F(PlanStoreTest, ARevisionIsThereAfterReopening) {
  ASSERT_TRUE(apply(kPlan, wish("first")));
  reopen();
  const auto loaded = keeper->load(problems);
  ASSERT_TRUE(loaded) << problems.text();
  EXPECT_EQ(loaded->revision, 1U);
  const plan::Client* kerapu = loaded->plan->client_named("kerapu");
  EXPECT_EQ(text_of(kerapu->secret.reveal()), "the secret in file kerapu");
  EXPECT_EQ(loaded->plan->client_named("pier")->address.text(), "192.0.2.9");
  EXPECT_TRUE(loaded->plan->user_named("sari@reef.example")->password.matches(view_of("laut-biru-7")));
  const auto first = store->revision(1);
  EXPECT_EQ(first->author, "wulan");
  EXPECT_EQ(first->message, "first");
  EXPECT_EQ(revision::counts_text(first->counts), "4 added");
}

TEST_F(PlanStoreTest, TheSamePlanAgainIsNoRevision) {
  ASSERT_TRUE(apply(kPlan, wish()));
  const auto again = apply(kPlan, wish());
  EXPECT_FALSE(again->changed);
  EXPECT_EQ(again->revision, 1U);
}

TEST_F(PlanStoreTest, AnExportIsThePlan) {
  ASSERT_TRUE(apply(kPlan, wish()));
  EXPECT_THAT(all_files(), Not(HasSubstr("secret in file")));
  const auto kept = apply(all_files(), wish());
  ASSERT_TRUE(kept) << problems.text();
  EXPECT_FALSE(kept->changed);
  EXPECT_THAT(all_files(Keeper::Secrets::shown), HasSubstr("secret = \"the secret in file kerapu\""));
  const auto shown = apply(all_files(Keeper::Secrets::shown), wish());
  EXPECT_FALSE(shown->changed);
}

TEST_F(PlanStoreTest, NoSecretStandsInTheFileOpenly) {
  ASSERT_TRUE(apply(kPlan, wish()));
  for (const char* name : {"plan.sqlite", "plan.sqlite-wal"}) {
    const std::string octets = support::read_file(folder.path() / name);
    EXPECT_EQ(octets.find("secret in file"), std::string::npos);
    EXPECT_EQ(octets.find("laut-biru"), std::string::npos);
  }
  struct stat found {};
  ::stat((folder.path() / "plan.sqlite").c_str(), &found);
  EXPECT_EQ(found.st_mode & 077U, 0U);
}

constexpr const char* kHidden = R"(
[[client]]
name = "kerapu"
address = "192.0.2.1"
secret = "angin kencang dari timur"
[[user]]
name = "sari"
password = { clear = "laut-biru-7" }
reply = { "Tunnel-Password[1]" = "terowong-satu", "69" = "terowong-nomor", Filter-Id = "crew" }
[[access]]
name = "crew"
permit = true
reply = { "Tunnel-Password[2]" = ["terowong-dua", { file = "tiga" }] }
[[edit]]
name = "tunnel"
at = "replying"
set = { "Tunnel-Password[3]" = "terowong-{user}" }
)";

TEST_F(PlanStoreTest, HiddenAttributesAreSecretsLikeOthers) {
  ASSERT_TRUE(apply(kHidden, wish())) << problems.text();
  EXPECT_THAT(all_files(), Not(HasSubstr("terowong")));
  EXPECT_THAT(all_files(), HasSubstr("Filter-Id = \"crew\""));
  EXPECT_EQ(support::read_file(folder.path() / "plan.sqlite-wal").find("terowong"), std::string::npos);
  const std::string shown = all_files(Keeper::Secrets::shown);
  for (const char* open : {"terowong-satu", "terowong-nomor", "terowong-dua", "file tiga", "terowong-{user}"})
    EXPECT_THAT(shown, HasSubstr(open));
  const auto loaded = keeper->load(problems);
  ASSERT_TRUE(loaded) << problems.text();
  EXPECT_EQ(text_of(loaded->plan->access_rules[0].reply[1].hidden->reveal()), "the secret in file tiga");

  const auto set =
      change({Do::set, "user", "sari", {{"reply.Tunnel-Password[1]", text_value("terowong-baru")}}});
  ASSERT_TRUE(set) << problems.text();
  EXPECT_EQ(revision::changes_text(set->changes),
            "changed user sari; reply.Tunnel-Password[1]: a secret -> another secret\n");
  EXPECT_THAT(all_files(), Not(HasSubstr("terowong")));
  EXPECT_THAT(all_files(Keeper::Secrets::shown), HasSubstr("terowong-baru"));
}

TEST_F(PlanStoreTest, AHiddenValueThatDoesNotFitIsNotShown) {
  ASSERT_TRUE(apply(kHidden, wish()));
  const std::string long_one(241, 'w');
  EXPECT_FALSE(change({Do::set, "user", "sari", {{"reply.Filter-Id", text_value("")}}}));
  EXPECT_THAT(problems.text(), Not(HasSubstr("terowong")));
  for (const std::string& wrong : {long_one, std::string("{terowong}"), std::string()}) {
    EXPECT_FALSE(change({Do::set, "user", "sari", {{"reply.Tunnel-Password[1]", text_value(wrong)}}}))
        << wrong;
    EXPECT_THAT(problems.text(), HasSubstr("'Tunnel-Password[1]' "));
    if (!wrong.empty()) {
      EXPECT_THAT(problems.text(), Not(HasSubstr(wrong)));
    }
  }
}

TEST_F(PlanStoreTest, WhatADictionaryMakesHiddenIsSealed) {
  constexpr const char* kDoors = R"(source = "Strait Ferries"
vendor = { name = "Strait", number = 32473 }
attribute = [{ number = 5, name = "Strait-Door-Code", type = "string"HIDDEN }]
)";
  const auto dictionary = [&](const std::string& hidden) {
    std::string text = kDoors;
    return Edit{Do::put,
                "dictionary",
                "strait",
                {{"text", text_value(text.replace(text.find("HIDDEN"), 6, hidden))}}};
  };
  ASSERT_TRUE(apply(kHidden, wish()));
  ASSERT_TRUE(change(dictionary(""))) << problems.text();
  ASSERT_TRUE(change({Do::set, "user", "sari", {{"reply.Strait-Door-Code", text_value("\"pintu\"")}}}));
  EXPECT_THAT(all_files(), HasSubstr("pintu"));
  const auto now_hidden = change(dictionary(", hidden = \"salted\""));
  ASSERT_TRUE(now_hidden) << problems.text();
  EXPECT_THAT(revision::changes_text(now_hidden->changes),
              HasSubstr("changed user sari; reply.Strait-Door-Code: a secret -> another secret"));
  EXPECT_THAT(all_files(), Not(HasSubstr("\"pintu")));
}

TEST_F(PlanStoreTest, ASecretThatComesWithANewNameIsSealed) {
  ASSERT_TRUE(apply(kPlan, wish()));
  ASSERT_TRUE(change(
      {Do::set, "client", "kerapu", {{"name", text_value("hiu")}, {"secret", text_value("arus deras")}}}));
  EXPECT_THAT(all_files(), Not(HasSubstr("arus")));
  EXPECT_THAT(all_files(Keeper::Secrets::shown), HasSubstr("arus deras"));
}

TEST_F(PlanStoreTest, AnotherNodesMarkIsRefused) {
  const std::string text =
      "[[client]]\nname = \"x\"\naddress = \"192.0.2.1\"\nsecret = { kept = \"0af5\" }\n";
  EXPECT_FALSE(apply(text, wish()));
  EXPECT_THAT(problems.text(), HasSubstr("this node keeps no secret with the mark '0af5'"));
}

TEST_F(PlanStoreTest, ADictionarysNameCannotLeadElsewhere) {
  for (const char* name : {"../../etc/x", ".hidden", "a/b", ""}) {
    EXPECT_FALSE(change({Do::put, "dictionary", name, {{"text", text_value("")}}})) << name;
    const std::vector<plan::SourceFile> files{{"plan.toml", ""},
                                              {"dictionaries/" + std::string(name) + ".toml", ""}};
    EXPECT_FALSE(keeper->apply(files, outside(), wish(), problems)) << name;
  }
  EXPECT_TRUE(change({Do::put, "dictionary", "strait-2", {{"text", text_value("")}}}));
}

TEST_F(PlanStoreTest, AChangeOnAnOldBaseIsRefusedAndSaysWho) {
  ASSERT_TRUE(apply(kPlan, wish("first")));
  ASSERT_TRUE(change({Do::set, "client", "kerapu", {{"note", text_value("in dock")}}}));
  const auto late = apply(kPlan, wish("second", 1));
  ASSERT_FALSE(late);
  EXPECT_EQ(late.error().code, Errc::conflict);
  EXPECT_THAT(late.error().text, HasSubstr("since revision 1: wulan made revision 2 (1 changed"));
  EXPECT_TRUE(apply(kPlan, wish("second", 2))->changed);
}

TEST_F(PlanStoreTest, ListsAreChangedByTheirItems) {
  ASSERT_TRUE(apply(kPlan, wish()));
  const auto groups = [&](const std::string& field, const std::string& value) {
    EXPECT_TRUE(change({Do::set, "user", "sari@reef.example", {{field, text_value(value)}}}))
        << problems.text();
    std::string out;
    const auto loaded = keeper->load(problems);
    for (const auto& group : loaded->plan->users.front().groups) out += group + " ";
    return out;
  };
  EXPECT_EQ(groups("groups", "crew"), "crew ");  // one text is a list of one
  EXPECT_EQ(groups("groups+", "engineers"), "crew engineers ");
  EXPECT_EQ(groups("groups+", "crew"), "crew engineers ");
  EXPECT_EQ(groups("groups-", "crew"), "engineers ");
  EXPECT_EQ(groups("groups-", "engineers"), "");
  EXPECT_EQ(change({Do::set, "client", "kerapu", {{"secret+", text_value("hush")}}}).error().text,
            "client 'kerapu': 'secret+': 'secret' is a table, no list");
}

TEST_F(PlanStoreTest, AMistakeInAChangeIsShownInTheObject) {
  ASSERT_TRUE(apply(kPlan, wish()));
  EXPECT_FALSE(change({Do::set, "client", "kerapu", {{"enabled", text_value("perhaps")}}}));
  EXPECT_THAT(problems.text(), HasSubstr("client 'kerapu':5:11: error: 'enabled' is text"));
  EXPECT_EQ(*store->newest(), 1U);
}

TEST_F(PlanStoreTest, ADryRunStoresNothing) {
  Wish dry = wish();
  dry.dry_run = true;
  const auto applied = apply(kPlan, dry);
  EXPECT_EQ(applied->changes.size(), 4U);
  EXPECT_EQ(*store->newest(), 0U);
  EXPECT_TRUE(store->audit({})->empty());
}

TEST_F(PlanStoreTest, ARestoredRevisionIsANewOne) {
  ASSERT_TRUE(apply(kPlan, wish()));
  ASSERT_TRUE(change({Do::remove, "client", "kerapu", {}}));
  const auto restored = keeper->restore(1, wish("back"), problems);
  ASSERT_TRUE(restored) << restored.error().text;
  EXPECT_EQ(restored->revision, 3U);
  EXPECT_TRUE(keeper->difference(1, 3)->changes.empty());
  EXPECT_EQ(revision::changes_text(keeper->difference(2, 3)->changes), "added client kerapu\n");
  EXPECT_EQ(keeper->restore(9, wish(), problems).error().text, "there is no revision 9; the newest is 3");
}

TEST_F(PlanStoreTest, AHostNameKeepsItsAddressUntilItIsSetAgain) {
  ASSERT_TRUE(apply(kPlan, wish()));
  pier = "192.0.2.10";
  ASSERT_TRUE(change({Do::set, "client", "kerapu", {{"note", text_value("x")}}}));
  EXPECT_EQ(keeper->load(problems)->plan->client_named("pier")->address.text(), "192.0.2.9");
  const auto set = change({Do::set, "client", "pier", {{"address", text_value("pier.strait.example")}}});
  ASSERT_TRUE(set) << problems.text();
  EXPECT_EQ(revision::changes_text(set->changes),
            "changed client pier; resolved: \"192.0.2.9\" -> \"192.0.2.10\"\n");
  EXPECT_FALSE(change({Do::set, "client", "pier", {{"address", text_value("nowhere.example")}}}));
  EXPECT_THAT(problems.text(), HasSubstr("host name 'nowhere.example': not known"));
}

// A server for each address of a host name; that they have moved is a revision that says so.
TEST_F(PlanStoreTest, WhereHostNamesLeadElsewhereIsARevision) {
  ASSERT_TRUE(apply(kPlan, wish()));
  ASSERT_TRUE(change({Do::add,
                      "group",
                      "homes",
                      {{"server.reef.address", text_value("homes.reef.example")},
                       {"server.reef.secret", text_value("karang-merah-dua-puluh")}}}))
      << problems.text();
  const auto names = [](const plan::PlanPtr& plan) {
    std::vector<std::string> out;
    for (const plan::Server& server : plan->groups.front().servers) out.push_back(server.name);
    return out;
  };
  reopen();
  EXPECT_THAT(names(keeper->load(problems)->plan),
              testing::ElementsAre("reef@192.0.2.21", "reef@192.0.2.22"));
  EXPECT_FALSE(keeper->look_up_again(outside(), wish(), problems)->changed);
  pier = "192.0.2.11";
  homes = {*IpAddress::parse("192.0.2.23")};
  const auto moved = keeper->look_up_again(outside(), wish(), problems);
  ASSERT_TRUE(moved) << problems.text();
  EXPECT_EQ(moved->revision, 3U);
  EXPECT_EQ(revision::changes_text(moved->changes),
            "changed client pier; resolved: \"192.0.2.9\" -> \"192.0.2.11\"\n"
            "changed group homes; server.reef.resolved: [\"192.0.2.21\", \"192.0.2.22\"] -> "
            "[\"192.0.2.23\"]\n");
  EXPECT_THAT(names(moved->plan), testing::ElementsAre("reef"));
  EXPECT_EQ(keeper->secret("group", "homes", "server.reef.secret")->reveal().size(), 22U);
  EXPECT_THAT(names(*keeper->plan_of(2)), testing::SizeIs(2)) << "past requests are told by it";
  const auto fixed = change({Do::set, "group", "homes", {{"server.reef.address", text_value("192.0.2.30")}}});
  ASSERT_TRUE(fixed) << problems.text();
  EXPECT_THAT(revision::changes_text(fixed->changes), HasSubstr("server.reef.resolved"));
  EXPECT_EQ(fixed->plan->groups.front().servers.front().address.text(), "192.0.2.30");
}

TEST_F(PlanStoreTest, LetterCaseOfAUserIsAChangeOfOneObject) {
  ASSERT_TRUE(apply(kPlan, wish()));
  ASSERT_TRUE(change({Do::set, "user", "sari@reef.example", {{"name", text_value("sari@reef.example")}}}));
  reopen();
  EXPECT_EQ(keeper->load(problems)->plan->users.size(), 1U);
}

// A rotation by the clock: the old secret is valid until its date.
TEST_F(PlanStoreTest, ARotationKeepsBothSecrets) {
  ASSERT_TRUE(apply(kPlan, wish()));
  const auto current = keeper->secret("client", "kerapu", "secret");
  const Edit rotate{Do::set,
                    "client",
                    "kerapu",
                    {{"old_secret", text_value(std::string(text_of(current->reveal())))},
                     {"secret", text_value("a new one for the deck")}}};
  ASSERT_TRUE(change(rotate)) << problems.text();
  reopen();
  EXPECT_EQ(text_of(keeper->secret("client", "kerapu", "secret")->reveal()), "a new one for the deck");
  EXPECT_EQ(text_of(keeper->secret("client", "kerapu", "old_secret")->reveal()), "the secret in file kerapu");
  EXPECT_EQ(keeper->secret("client", "pier", "old_secret").error().code, Errc::not_found);
}

TEST_F(PlanStoreTest, AFullDiskLeavesTheOldRevision) {
  ASSERT_TRUE(apply(kPlan, wish()));
  ASSERT_TRUE(store->limit_pages(1));  // nothing more can be written
  std::string many = kPlan;
  for (int i = 0; i < 2000; ++i) {
    many += "[[client]]\nname = \"deck-" + std::to_string(i) + "\"\naddress = \"198.18." +
            std::to_string(i / 256) + "." + std::to_string(i % 256) +
            "\"\nsecret = \"a secret that is long enough " + std::to_string(i) + "\"\n";
  }
  const auto failed = apply(many, wish());
  ASSERT_FALSE(failed);
  EXPECT_EQ(failed.error().code, Errc::io);
  EXPECT_THAT(failed.error().text, HasSubstr("full"));
  EXPECT_EQ(*store->newest(), 1U);
  reopen();
  EXPECT_EQ(keeper->load(problems)->plan->clients.size(), 2U);
  EXPECT_TRUE(apply(many, wish()));  // room again
}

TEST_F(PlanStoreTest, TheAuditRecordOnlyGrows) {
  ASSERT_TRUE(apply(kPlan, wish("first")));
  SQLite::Database raw = open_to_write(folder.path() / "plan.sqlite");
  for (const char* change : {"DELETE FROM audit", "UPDATE audit SET author = 'x'"}) {
    const Status refused = attempt(folder.path(), [&]() -> Status {
      raw.exec(change);
      return {};
    });
    EXPECT_EQ(refused.error().text, "store: the audit record only grows");
  }
  const auto audit = store->audit({});
  ASSERT_EQ(audit->size(), 1U);
  EXPECT_EQ(audit->front().action, "plan apply");
  EXPECT_EQ(audit->front().detail, "revision 1: 4 added (\"first\")");
}

TEST_F(PlanStoreTest, TokensAreFoundByTheirHashUntilTheyAreRevoked) {
  const Octets hash = revision::sha256(view_of("token"));
  const revision::Token token{"wulan", Role::operator_, clock.now().wall, "local", std::nullopt};
  ASSERT_TRUE(store->add_token(token, hash, {}));
  EXPECT_EQ(store->add_token(token, revision::sha256(view_of("other")), {}).error().code, Errc::conflict);
  const auto in_force = store->tokens_in_force();
  ASSERT_EQ(in_force->size(), 1U);
  EXPECT_EQ(in_force->front().hash, hash);
  EXPECT_EQ(in_force->front().token.role, Role::operator_);
  ASSERT_TRUE(store->revoke_token("wulan", clock.now().wall, {}));
  EXPECT_TRUE(store->tokens_in_force()->empty());
  EXPECT_EQ(store->revoke_token("wulan", clock.now().wall, {}).error().code, Errc::not_found);
}

TEST_F(PlanStoreTest, SinceWhenAnObjectIsAsItIs) {
  const auto change = [&](const char* field, const char* value, const std::string& why) {
    clock.advance(std::chrono::minutes(1));
    Edit edit;
    edit.kind = "client";
    edit.name = "kerapu";
    document::Value on;
    on.kind = document::Kind::boolean;
    on.boolean = std::string_view(value) == "true";
    edit.fields = {{field, std::string_view(field) == "enabled" ? on : text_value(value)}};
    ASSERT_TRUE(keeper->change({edit}, outside(), wish(why), problems));
  };
  ASSERT_TRUE(apply(kPlan, wish()));
  change("enabled", "false", "in dock");
  change("note", "back in spring", "");
  const auto off = revision::last_change(*store, "client", "kerapu", "enabled");
  ASSERT_TRUE(off);
  EXPECT_EQ(off->number, 2U);
  EXPECT_EQ(revision::since_text(*off), "since 2026-09-21 14:14:20Z, by wulan: in dock");
  change("enabled", "true", "");
  change("enabled", "false", "again");
  EXPECT_EQ(revision::last_change(*store, "client", "kerapu", "enabled")->message, "again");
  EXPECT_EQ(revision::last_change(*store, "client", "pier", "enabled")->number, 1U);
  EXPECT_FALSE(revision::last_change(*store, "client", "kerapo", "enabled"));
}

// Nothing has to be swept: every secret that is kept stands in an object of some revision.
TEST_F(PlanStoreTest, NoSecretIsKeptThatNoRevisionNeeds) {
  ASSERT_TRUE(apply(kPlan, wish()));
  for (const char* secret : {"one angin kencang", "two angin kencang", "one angin kencang"}) {
    Edit edit;
    edit.kind = "client";
    edit.name = "kerapu";
    edit.fields = {{"secret", text_value(secret)}};
    ASSERT_TRUE(keeper->change({edit}, outside(), wish(), problems));
    Wish dry = wish();
    dry.dry_run = true;
    edit.fields = {{"secret", text_value("never put into force")}};
    ASSERT_TRUE(keeper->change({edit}, outside(), dry, problems));
    edit.fields = {{"waits", text_value("never")}, {"secret", text_value("refused with the change")}};
    ASSERT_FALSE(keeper->change({edit}, outside(), wish(), problems));
    problems = {};
  }
  SQLite::Database database = open_to_read(folder.path() / "plan.sqlite");
  EXPECT_EQ(number_of(database, "SELECT count(*) FROM kept_secret"), 5);  // pier, Sari, kerapu three times
  EXPECT_EQ(number_of(database,
                      "SELECT count(*) FROM kept_secret WHERE NOT EXISTS "
                      "(SELECT 1 FROM object WHERE instr(object.text, kept_secret.mark) > 0)"),
            0);
}

}  // namespace
}  // namespace jembatan::store
