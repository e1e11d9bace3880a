#include "plan/read.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <filesystem>
#include <fstream>
#include <sstream>

#include "base/text.h"
#include "support/packets.h"
#include "support/process.h"

namespace jembatan::plan {
namespace {

using support::plan_of;
using support::problems_of;
using testing::HasSubstr;
using testing::Not;

constexpr const char* kGood = R"(
[[client]]
name = "kerapu-deck-2"
address = "192.0.2.32/28"
secret = "a shared secret"
labels = { place = "reef/kerapu", kind = "wireless" }
message_authenticator = "if-present"

[[user]]
name = "Sari@reef.example"
password = { clear = "laut-biru-7" }
reply = { vlan = 30, Filter-Id = ["crew", "deck"], Session-Timeout = "12h" }

[[realm]]
name = "reef.example"
handle = "group:reef-homes"
strip = true

[[realm]]
name = "*.islands.example"
handle = "refuse"
accounting = ["here", "group:reef-homes"]

[realm_default]
unknown = "group:reef-homes"
missing = { assume = "harbour.example" }

[[group]]
name = "reef-homes"
answer_within = "250ms"
attempts = 1

[[group.server]]
name = "reef-1"
address = "198.51.100.11"
secret = "other"
weight = 75
priority = 2
)";

TEST(ReadPlan, AWholePlanBecomesItsObjects) {
  const auto plan = plan_of(kGood);
  ASSERT_TRUE(plan);
  const Client* client = plan->client_at(*IpAddress::parse("192.0.2.40"));
  ASSERT_NE(client, nullptr);
  EXPECT_EQ(client->name, "kerapu-deck-2");
  EXPECT_EQ(client->labels.at("place"), "reef/kerapu");
  EXPECT_EQ(client->message_authenticator, SignatureRule::if_present);
  const User* user = plan->user_named("sari@REEF.example");
  ASSERT_NE(user, nullptr);
  Octets reply;
  for (const Assignment& assignment : user->reply) append(reply, assignment.fixed);
  EXPECT_EQ(to_hex(reply),
            "40060000000d"
            "410600000006"
            "51043330"
            "0b0663726577"
            "0b066465636b"
            "1b060000a8c0");
  const Realm* realm = plan->realm_named("reef.example");
  ASSERT_NE(realm, nullptr);
  EXPECT_TRUE(realm->strip);
  EXPECT_EQ(realm->access.handling, Handling::forward);
  EXPECT_TRUE(realm->accounting.here);
  EXPECT_EQ(realm->accounting.groups, std::vector<std::size_t>{0});
  EXPECT_EQ(plan->realm_named("a.islands.example")->access.handling, Handling::refuse);
  EXPECT_EQ(plan->realm_default.unknown.handling, Handling::forward);
  EXPECT_EQ(plan->realm_default.assume, "harbour.example");
  EXPECT_EQ(plan->groups[0].answer_within, Duration(250));
  EXPECT_EQ(plan->groups[0].servers[0].weight, 75);
  EXPECT_EQ(plan->groups[0].servers[0].accounting_port, 1813);
}

TEST(ReadPlan, WithoutDefaultsEverythingUnknownIsRefused) {
  const auto plan = plan_of("");
  EXPECT_EQ(plan->realm_default.unknown.handling, Handling::refuse);
  EXPECT_EQ(plan->realm_default.missing.handling, Handling::refuse);
  EXPECT_EQ(plan->client_at(*IpAddress::parse("127.0.0.1")), nullptr);
}

struct ProblemCase {
  const char* what;
  const char* toml;
  const char* problem;
};

void PrintTo(const ProblemCase& one, std::ostream* out) {
  *out << one.what;
}

class Problem : public testing::TestWithParam<ProblemCase> {};

TEST_P(Problem, IsNamedWithItsPlace) {
  EXPECT_THAT(problems_of(GetParam().toml), HasSubstr(GetParam().problem));
}

INSTANTIATE_TEST_SUITE_P(
    All, Problem,
    testing::Values(
        ProblemCase{"unknown section", "[[clint]]\nname = \"a\"",
                    "plan.toml:1:3: error: unknown key 'clint' in a plan"},
        ProblemCase{"unknown key", "[[client]]\nname = \"a\"\naddress = \"192.0.2.1\"\nsecrt = \"x\"",
                    "plan.toml:4:1: error: unknown key 'secrt' in client 'a'\n    4 | secrt = ********\n"},
        ProblemCase{"missing keys", "[[client]]\nname = \"a\"",
                    "plan.toml:1:1: error: 'secret' is missing in client 'a'"},
        ProblemCase{"bad address", "[[client]]\nname = \"a\"\nsecret = \"s\"\naddress = \"192.0.2.300\"",
                    "plan.toml:4:11: error: 'address': '192.0.2.300' is not an address"},
        ProblemCase{"empty secret", "[[client]]\nname = \"a\"\nsecret = \"\"\naddress = \"192.0.2.3\"",
                    "'secret' is empty"},
        ProblemCase{"unknown kind of secret",
                    "[[client]]\nname = \"a\"\nsecret = { flie = \"s\" }\naddress = \"192.0.2.3\"",
                    "'secret' is kept in 'flie', which is no place for secrets; nearest: 'file'"},
        ProblemCase{"secret file not there",
                    "[[client]]\nname = \"a\"\nsecret = { file = \"s\" }\naddress = \"192.0.2.3\"",
                    "plan.toml:3:19: error: 'secret': no source 's' in this test"},
        ProblemCase{"name twice",
                    "[[client]]\nname = \"a\"\nsecret = \"s\"\naddress = \"192.0.2.3\"\n"
                    "[[client]]\nname = \"a\"\nsecret = \"s\"\naddress = \"192.0.2.4\"",
                    "plan.toml:5:1: error: client 'a' stands at plan.toml:1 already"},
        ProblemCase{"prefix twice",
                    "[[client]]\nname = \"a\"\nsecret = \"s\"\naddress = \"192.0.2.3\"\n"
                    "[[client]]\nname = \"b\"\nsecret = \"s\"\naddress = \"192.0.2.3/32\"",
                    "client 'b' has the address 192.0.2.3 of client 'a'"},
        ProblemCase{"space in a name", "[[group]]\nname = \"crew \"\nserver = []", "'name' is 'crew '"},
        ProblemCase{"a mirror to itself",
                    "[[group]]\nname = \"g\"\nmirror = { to = \"group:g\" }\n[[group.server]]\nname = \"s\"\n"
                    "address = \"192.0.2.3\"\nsecret = \"s\"",
                    "plan.toml:3:17: error: group 'g' would be mirrored to itself"},
        ProblemCase{"a mirror to nowhere",
                    "[[group]]\nname = \"g\"\nmirror = { to = \"group:h\" }\n[[group.server]]\nname = \"s\"\n"
                    "address = \"192.0.2.3\"\nsecret = \"s\"",
                    "'to' names group 'h', which does not exist"},
        ProblemCase{
            "a mirror that compares what is hidden",
            "[[group]]\nname = \"g\"\nmirror = { to = \"group:h\", compare = [\"Tunnel-Password\"] }\n",
            "'compare' holds Tunnel-Password, which cannot be compared"},
        ProblemCase{"a mirror of what is decided here",
                    "[[route]]\nname = \"r\"\nwhen = 'realm == \"x\"'\nhandle = \"here\"\n"
                    "mirror = { to = \"group:g\" }\n",
                    "route 'r' forwards nothing that could be mirrored"},
        ProblemCase{"a server's source of another family",
                    "[[group]]\nname = \"g\"\n[[group.server]]\nname = \"s\"\naddress = \"192.0.2.3\"\n"
                    "secret = \"s\"\nsource = \"2001:db8::1\"",
                    "plan.toml:7:10: error: 'source' is 2001:db8::1, and the server's address is 192.0.2.3"},
        ProblemCase{"a server's address that is neither address nor name",
                    "[[group]]\nname = \"g\"\n[[group.server]]\nname = \"s\"\naddress = \"192.0.2.300\"",
                    "allowed: an address, or a host name"},
        ProblemCase{
            "a server twice, once by a host name",
            "[[group]]\nname = \"g\"\n[[group.server]]\nname = \"s\"\naddress = \"192.0.2.3\"\n"
            "secret = \"s\"\n[[group.server]]\nname = \"s\"\naddress = \"reef.example\"\nsecret = \"s\"",
            "group 'g' has server 's' twice"},
        ProblemCase{"group without server", "[[group]]\nname = \"g\"\nserver = []",
                    "group 'g' has 0 servers"},
        ProblemCase{"unknown group", "[[realm]]\nname = \"reef.example\"\nhandle = \"group:reef\"",
                    "plan.toml:3:10: error: 'handle' names group 'reef', which does not exist"},
        ProblemCase{"no handling", "[[realm]]\nname = \"reef.example\"",
                    "'handle' is missing in realm 'reef.example'"},
        ProblemCase{"wrong handling", "[[realm]]\nname = \"reef.example\"\nhandle = \"heer\"",
                    "nearest: 'here'"},
        ProblemCase{"wrong pattern", "[[realm]]\nname = \"a.*.example\"\nhandle = \"here\"",
                    "'name' is 'a.*.example'"},
        ProblemCase{"accounting nowhere", "[[realm]]\nname = \"a\"\nhandle = \"here\"\naccounting = []",
                    "'accounting' leads nowhere"},
        ProblemCase{"bad hash", "[[user]]\nname = \"a\"\npassword = { hash = \"plain\" }",
                    "'hash' is not a password hash that this system knows"},
        ProblemCase{"password as text", "[[user]]\nname = \"a\"\npassword = \"plain\"", "'password' is text"},
        ProblemCase{"unknown attribute",
                    "[[user]]\nname = \"a\"\npassword = { clear = \"x\" }\nreply = { Filter-ID2 = \"x\" }",
                    "attribute 'Filter-ID2' is in no dictionary; nearest: 'Filter-Id'"},
        ProblemCase{"attribute of the server's own",
                    "[[user]]\nname = \"a\"\npassword = { clear = \"x\" }\nreply = { Proxy-State = \"x\" }",
                    "'Proxy-State' cannot be set: the server writes it itself"},
        ProblemCase{"vlan out of range",
                    "[[user]]\nname = \"a\"\npassword = { clear = \"x\" }\nreply = { vlan = 4095 }",
                    "'vlan' is 4095"},
        ProblemCase{"not tables", "client = 3", "'client' is a whole number"},
        ProblemCase{"defaults twice", "[realm_default]\nunknown = \"group:nowhere\"",
                    "names group 'nowhere', which does not exist"}));

// A plan from an export, read where nobody keeps its secrets: what each password can prove is known all the
// same.
TEST(ReadPlan, APasswordKeptElsewhereHasItsForm) {
  for (const auto& [key, form] : {std::pair{"clear", identity::StoredPassword::Form::clear},
                                  std::pair{"nt", identity::StoredPassword::Form::nt},
                                  std::pair{"hash", identity::StoredPassword::Form::hash}}) {
    const auto plan =
        plan_of("[[user]]\nname = \"sari\"\npassword = { " + std::string(key) + " = { kept = \"0af5\" } }\n");
    ASSERT_TRUE(plan);
    EXPECT_EQ(plan->users[0].password.form(), form) << key;
  }
}

TEST(ReadPlan, AGroupHasAServerOnce) {
  std::string text = "[[group]]\nname = \"homes\"\n";
  for (const char* name : {"one", "two", "two"})
    text += "[[group.server]]\nname = \"" + std::string(name) +
            "\"\naddress = \"192.0.2.1\"\nsecret = \"angin\"\n";
  EXPECT_THAT(problems_of(text), HasSubstr("group 'homes' has server 'two' twice"));
}

TEST(ReadPlan, NoProblemShowsASecretOrPassword) {
  for (const char* text : {"[[client]]\nname = \"a\"\nsecret = \"hunter-2\"\nadress = \"x\"",
                           "[[client]]\nname = \"a\"\naddress = \"x\"\nsecret = [\"hunter-2\"]",
                           "[[user]]\nname = \"a\"\npassword = \"hunter-2\"",
                           "[[user]]\nname = \"a\"\npassword = { hash = \"hunter-2\" }",
                           "[[user]]\nname = \"a\"\npassword = { clera = \"hunter-2\" }"}) {
    const std::string problems = problems_of(text);
    EXPECT_THAT(problems, HasSubstr("error"));
    EXPECT_THAT(problems, Not(HasSubstr("hunter-2")));
  }
}

TEST(ReadFolder, ReadsAllFilesAndSecretFiles) {
  const support::TemporaryFolder folder;
  support::write_file(
      folder.path() / "b.toml",
      "[[client]]\nname = \"a\"\naddress = \"192.0.2.1\"\nsecret = { file = \"secrets/a\" }\n");
  support::write_file(folder.path() / "a.toml", "[[realm]]\nname = \"x.example\"\nhandle = \"here\"\n");
  support::write_file(folder.path() / "notes.txt", "not a plan");
  document::Problems problems;
  EXPECT_FALSE(read_folder(folder.path(), problems));
  EXPECT_THAT(problems.text(),
              HasSubstr("b.toml:4:19: error: 'secret': file '" + (folder.path() / "secrets/a").string()));
  support::write_file(folder.path() / "secrets/a", "laut\n");
  document::Problems none;
  const auto plan = read_folder(folder.path(), none);
  ASSERT_TRUE(plan) << none.text();
  EXPECT_EQ(text_of(plan->clients[0].secret.reveal()), "laut");
  EXPECT_EQ(plan->realms.size(), 1U);
}

TEST(ReadFolder, AFolderThatIsNotThereOrEmptyIsAnError) {
  const support::TemporaryFolder folder;
  document::Problems problems;
  EXPECT_FALSE(read_folder(folder.path() / "nowhere", problems));
  EXPECT_FALSE(read_folder(folder.path(), problems));
  EXPECT_THAT(problems.text(), HasSubstr("plan folder cannot be read"));
  EXPECT_THAT(problems.text(), HasSubstr("plan folder has no *.toml file"));
}

TEST(Condition, AMistakeIsShownWhereItStandsWhateverTheQuotes) {
  const std::string head = "[[access]]\nname = \"a\"\npermit = true\n";
  EXPECT_THAT(problems_of(head + "when = 'member of \"crew \"'\n"),
              HasSubstr("plan.toml:4:19: error: the group 'crew '"));
  EXPECT_THAT(problems_of(head + "when = \"member of \\\"crew\\\" and day == Someday\"\n"),
              HasSubstr("\n    4 | when = \"member of \\\"crew\\\" and day == Someday\"\n"
                        "      |                                       ^^^^^^^\n"));
}

TEST(Advice, DatesAreComparedWithTheTimeGiven) {
  const std::vector<SourceFile> files{{"plan.toml", R"(
[[user]]
name = "magang@reef.example"
password = { clear = "x" }
valid_until = "2026-12-01T00:00:00Z"
)"}};
  for (const auto& [now, wanted] :
       {std::pair{"2026-11-30T00:00:00Z", false}, {"2026-12-02T00:00:00Z", true}}) {
    Outside outside;
    outside.now = *parse_time(now);
    document::Problems problems;
    ASSERT_TRUE(read(files, outside, problems));
    EXPECT_EQ(problems.text().find("user 'magang@reef.example' has expired") != std::string::npos, wanted)
        << now;
  }
}

TEST(ReadPlan, ARouteDoesNotKnowTheUsersGroups) {
  EXPECT_THAT(
      support::problems_of("[[route]]\nname = \"crew\"\nwhen = 'member of \"crew\"'\nhandle = \"here\"\n"),
      testing::HasSubstr("'when' of a route asks for 'member of', and the user is not known yet"));
}

TEST(ReadPlan, SessionsAreCountedForAccessRulesOnly) {
  const std::string why = "'when' asks for 'sessions', which are counted for access rules only";
  EXPECT_THAT(support::problems_of("[[route]]\nname = \"a\"\nwhen = 'sessions > 1'\nhandle = \"here\"\n"),
              testing::HasSubstr(why));
  EXPECT_THAT(support::problems_of("[[edit]]\nname = \"a\"\nat = \"replying\"\nwhen = 'sessions > 1'\n"
                                   "remove = [\"Filter-Id\"]\n"),
              testing::HasSubstr(why));
}

TEST(ReadPlan, ACircleOfClientAndServerIsAdvice) {
  const std::string client =
      "[[client]]\nname = \"hub\"\naddress = \"192.0.2.1\"\nsecret = \"angin kencang dari timur\"\n";
  const std::string group =
      "[[group]]\nname = \"round\"\n[[group.server]]\nname = \"hub\"\nsecret = \"angin kencang dari "
      "barat\"\naddress = ";
  EXPECT_THAT(support::problems_of(client + group + "\"192.0.2.1\"\n"),
              testing::HasSubstr(
                  "server 'hub' of group 'round' has the address of client 'hub': a request can go round"));
  EXPECT_THAT(support::problems_of(client + group + "\"192.0.2.2\"\n"),
              testing::Not(testing::HasSubstr("go round")));
}

TEST(ReadPlan, RulesThatLookAtOtherProofsDoNotShadowEachOther) {
  const auto rule = [](const char* name, const char* proof) {
    return std::string("[[access]]\nname = \"") + name + "\"\npermit = true\nproof = \"" + proof + "\"\n";
  };
  EXPECT_THAT(support::problems_of(rule("a", "client") + rule("b", "password")),
              testing::Not(testing::HasSubstr("shadowed")));
  EXPECT_THAT(support::problems_of(rule("a", "client") + rule("b", "client")),
              testing::HasSubstr("shadowed"));
}

TEST(ReadPlan, ARuleIsInTheShadowOfOneThatMatchesAsMuch) {
  const auto rule = [](const std::string& when) {
    static int number = 0;
    return "[[access]]\nname = \"" + std::to_string(++number) + "\"\npermit = true\n" +
           (when.empty() ? "" : "when = '" + when + "'\n");
  };
  const auto shadowed = [&](const std::string& first, const std::string& second) {
    return support::problems_of(rule(first) + rule(second)).find("shadowed") != std::string::npos;
  };
  const std::string crew = "member of \"crew\"";
  EXPECT_TRUE(shadowed("", crew));
  EXPECT_TRUE(shadowed(crew, crew));
  EXPECT_TRUE(shadowed(crew, crew + " and Filter-Id present"));
  EXPECT_FALSE(shadowed(crew, ""));
  EXPECT_FALSE(shadowed(crew + " and Filter-Id present", crew));
  EXPECT_FALSE(shadowed(crew + " or Filter-Id present", crew));
}

TEST(Advice, WhatOperatorsOftenMistake) {
  const std::string report = support::problems_of(R"(
[[client]]
name = "deck two"
address = "192.0.2.1"
secret = """angin kencang dari timur
laut tenang"""
[[user]]
name = "a@reef.example"
password = { nt = "31d6cfe0d16ae931b73c59d7e0c089c0" }
[[access]]
name = "all"
permit = true
reply = { Acct-Interim-Interval = 30 }
)");
  EXPECT_THAT(report, HasSubstr("client 'deck two' has a space in its name (space-in-name)"));
  EXPECT_THAT(report, HasSubstr("the secret of client 'deck two' has several lines (secret-of-lines)"));
  EXPECT_THAT(report, HasSubstr("the password of user 'a@reef.example' is empty (empty-password)"));
  EXPECT_THAT(
      report,
      HasSubstr("access rule 'all' asks for a record every 30 s (Acct-Interim-Interval) (busy-interim)"));
  EXPECT_THAT(report, testing::Not(HasSubstr("angin")));
}

TEST(ReadPlan, TheDefaultHasItsOwnAccounting) {
  constexpr const char* kText = R"(
[[group]]
name = "records"
[[group.server]]
name = "r-1"
address = "192.0.2.9"
secret = "angin kencang dari timur"
[realm_default]
unknown = "refuse"
accounting = ["group:records"]
)";
  EXPECT_EQ(support::problems_of(kText), "");  // the group is not taken for unused
  const auto plan = support::plan_of(kText);
  ASSERT_TRUE(plan->realm_default.accounting);
  EXPECT_FALSE(plan->realm_default.accounting->here);
  EXPECT_EQ(plan->realm_default.accounting->groups, std::vector<std::size_t>{0});
}

}  // namespace
}  // namespace jembatan::plan
