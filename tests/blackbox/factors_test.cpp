// Second factors, by real nodes: codes that serve once whatever happens in between, tokens that are given and
// taken, locks that are ended.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <sqlite3.h>

#include <future>

#include "blackbox/chain.h"
#include "identity/one_time_code.h"

namespace jembatan::blackbox {
namespace {

using identity::Token;
using nlohmann::json;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

constexpr const char* kKey = "GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ";

const std::string kCodes = client_here("laut") + R"(
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "indah@reef.example"
password = { clear = "poros-8" }
[[user]]
name = "made@reef.example"
password = { clear = "sauh-11" }
[[factor]]
name = "code"
kind = "code"
behind_when = 'NAS-Identifier == "door"'
lock_after = 4
[[access]]
name = "all"
permit = true
factors = ["code"]
)";
const std::string kCard = R"(
[[enrolment]]
name = "indah's card"
user = "indah@reef.example"
factor = "code"
counts = "uses"
secret = ")" + std::string(kKey) +
                          "\"\n";

// What the card of RFC 4226, appendix D, shows.
constexpr const char* kShown[] = {"755224", "287082", "359152", "969429", "338314"};

void damage(const std::filesystem::path& file) {
  sqlite3* database = nullptr;
  ASSERT_EQ(sqlite3_open(file.c_str(), &database), SQLITE_OK);
  EXPECT_EQ(sqlite3_exec(database, "UPDATE page SET octets = x'0102'", nullptr, nullptr, nullptr), SQLITE_OK);
  sqlite3_close(database);
}

class SecondFactors : public testing::Test {
 protected:
  support::Finished sign_in(const std::string& user, const std::string& password,
                            const std::vector<std::string>& more = {}) const {
    std::vector<std::string> words{"ask",     "access", "--to",       node.access_to(), "--secret", "laut",
                                   "--user",  user,     "--password", password,         "--wait",   "20s",
                                   "--tries", "1"};
    words.insert(words.end(), more.begin(), more.end());
    return client(words);
  }
  support::Finished by_code(const std::string& code) const {
    return sign_in("indah@reef.example", "poros-8", {"--answer", code});
  }
  support::Finished at_door(const std::string& password) const {
    return sign_in("indah@reef.example", password, {"NAS-Identifier=door"});
  }
  support::Finished at_node(std::vector<std::string> words) const {
    words.insert(words.end(), {"--node", node.file()});
    return client(std::move(words));
  }
  TestNode node{"reef"};
};

TEST_F(SecondFactors, ACodeServesOnceAlsoAfterAKill) {
  node.plan(kCodes + kCard);
  node.start();
  EXPECT_EQ(by_code(kShown[0]).exit_code, 0);
  EXPECT_EQ(by_code(kShown[0]).exit_code, 1);
  node.kill();
  (void)node.wait();
  node.start();
  EXPECT_EQ(by_code(kShown[0]).exit_code, 1);
  EXPECT_EQ(at_door("poros-8755224").exit_code, 1) << "nor in another way";
  EXPECT_EQ(at_door("poros-8287082").exit_code, 0);
}

TEST_F(SecondFactors, OfManyAtOnceOneHasTheCode) {
  std::string plan = kCodes + kCard;
  plan.replace(plan.find("lock_after = 4"), 14, "lock_after = 0");
  node.plan(plan);
  node.start();
  std::vector<std::future<int>> asking;
  for (int i = 0; i < 12; ++i)
    asking.push_back(std::async(std::launch::async, [&] { return at_door("poros-8755224").exit_code; }));
  int accepted = 0;
  for (auto& one : asking) accepted += one.get() == 0 ? 1 : 0;
  EXPECT_EQ(accepted, 1);
}

TEST_F(SecondFactors, AUserIsEnrolledTriedAndLosesTheToken) {
  TestNode by_commands("hub", "", TestNode::Plan::by_commands);
  const auto told = [&](std::vector<std::string> words) {
    words.insert(words.end(), {"--node", by_commands.file()});
    return client(std::move(words));
  };
  by_commands.start();
  std::filesystem::create_directories(by_commands.path("new"));
  support::write_file(by_commands.path("new/plan.toml"), kCodes);
  ASSERT_EQ(told({"plan", "apply", by_commands.path("new").string()}).exit_code, 0);
  const auto enrolled = told({"user", "factor", "enrol", "made@reef.example", "--issuer", "Reef Line"});
  ASSERT_EQ(enrolled.exit_code, 0) << enrolled.out << enrolled.error;
  EXPECT_THAT(enrolled.out,
              AllOf(HasSubstr("█▀"), HasSubstr("otpauth://totp/Reef%20Line:made@reef.example?secret=")));
  const std::size_t at = enrolled.out.find("secret=") + 7;
  const std::string secret = enrolled.out.substr(at, enrolled.out.find('&', at) - at);
  const std::size_t codes = enrolled.out.find("lost:\n") + 8;
  const std::string recovery = enrolled.out.substr(codes, 11);
  const std::string file = by_commands.path("token").string();
  support::write_file(file, secret + "\n");
  const auto ask = [&](const std::string& answer) {
    return client({"ask", "access", "--to", by_commands.access_to(), "--secret", "laut", "--user",
                   "made@reef.example", "--password", "sauh-11", "--answer", answer, "--token-file", file,
                   "--wait", "20s"});
  };
  EXPECT_EQ(ask("{code}").exit_code, 0);
  EXPECT_EQ(ask(recovery).exit_code, 0) << recovery;
  EXPECT_EQ(ask(recovery).exit_code, 1);
  const json rows = by_commands.ask_node({"user", "factor", "list", "MADE@reef.example"}).at("enrolments");
  ASSERT_EQ(rows.size(), 1U);
  EXPECT_EQ(rows[0]["recovery_codes_left"], 7);
  EXPECT_EQ(rows[0]["wrong"], 1);
  EXPECT_TRUE(rows[0]["last"].is_string());
  EXPECT_EQ(told({"user", "factor", "test", "made@reef.example", "000000"}).exit_code, 1);
  const auto nobody = told({"user", "factor", "test", "mada@reef.example", "000000"});
  EXPECT_THAT(nobody.error, HasSubstr("user 'mada@reef.example' has no token; nearest: 'made@reef.example'"));
  ASSERT_EQ(told({"plan", "export", by_commands.path("out").string()}).exit_code, 0);
  const std::string kept = support::read_file(by_commands.path("out") / "enrolments.toml");
  EXPECT_THAT(kept + by_commands.log(), AllOf(HasSubstr("kept = "), Not(HasSubstr(secret))));
  EXPECT_EQ(told({"user", "factor", "remove", "made@reef.example code"}).exit_code, 0);
  EXPECT_EQ(ask(recovery).exit_code, 1);
}

TEST_F(SecondFactors, TokensThatAreThereComeFromATable) {
  TestNode by_commands("hub", "", TestNode::Plan::by_commands);
  by_commands.start();
  std::filesystem::create_directories(by_commands.path("new"));
  support::write_file(by_commands.path("new/plan.toml"), kCodes);
  const auto told = [&](std::vector<std::string> words) {
    words.insert(words.end(), {"--node", by_commands.file()});
    return client(std::move(words));
  };
  ASSERT_EQ(told({"plan", "apply", by_commands.path("new").string()}).exit_code, 0);
  const std::string table = by_commands.path("cards.csv").string();
  const auto import = [&](const std::string& rows) {
    support::write_file(table, "Serial,Holder,Seed,Kind\n" + rows);
    return told(
        {"user", "factor", "import", table, "--map", "name=Serial,user=Holder,secret=Seed,counts=Kind"});
  };
  const std::string key = kKey;
  const auto wrong = import("4711,indah@reef.example," + key + ",uses\n4712,made@reef.example,0815,uses\n");
  EXPECT_EQ(wrong.exit_code, 1);
  EXPECT_THAT(wrong.error, AllOf(HasSubstr("cards.csv line 3"), HasSubstr("'secret' is not Base32"),
                                 Not(HasSubstr("0815"))));
  EXPECT_THAT(
      import("4711,indah@reef.example," + key + ",uses\n4711,made@reef.example," + key + ",uses\n").error,
      HasSubstr("cards.csv line 3: token '4711' stands in line 2 already; nothing was changed"));
  const auto right = import("4711,indah@reef.example," + key + ",uses\n,made@reef.example," + key + ",\n");
  EXPECT_EQ(right.exit_code, 0) << right.error;
  const auto signed_in =
      client({"ask", "access", "--to", by_commands.access_to(), "--secret", "laut", "--user",
              "indah@reef.example", "--password", "poros-8", "--answer", kShown[0], "--wait", "20s"});
  EXPECT_EQ(signed_in.exit_code, 0) << signed_in.out;
  const auto rows = by_commands.ask_node({"user", "factor", "list"}).at("enrolments");
  ASSERT_EQ(rows.size(), 2U);
  EXPECT_EQ(rows[1]["name"], "made@reef.example code");
}

TEST_F(SecondFactors, APictureOfTheSecretIsForNobodyElse) {
  TestNode by_commands("hub", "", TestNode::Plan::by_commands);
  by_commands.start();
  std::filesystem::create_directories(by_commands.path("new"));
  support::write_file(by_commands.path("new/plan.toml"), kCodes);
  ASSERT_EQ(
      client({"plan", "apply", by_commands.path("new").string(), "--node", by_commands.file()}).exit_code, 0);
  const std::string png = by_commands.path("made.png").string();
  const auto enrolled =
      client({"user", "factor", "enrol", "made@reef.example", "--png", png, "--node", by_commands.file()});
  ASSERT_EQ(enrolled.exit_code, 0) << enrolled.error;
  EXPECT_THAT(enrolled.out, Not(HasSubstr("otpauth")));
  EXPECT_EQ(support::read_file(png).substr(1, 3), "PNG");
  EXPECT_EQ(std::filesystem::status(png).permissions(),
            std::filesystem::perms::owner_read | std::filesystem::perms::owner_write);
}

TEST_F(SecondFactors, WrongCodesLockUntilSomebodyUnlocks) {
  node.plan(kCodes + kCard);
  node.start();
  for (int i = 0; i < 4; ++i) EXPECT_EQ(by_code("000000").exit_code, 1);
  EXPECT_TRUE(node.log_has("user indah@reef.example: codes of factor 'code' are not looked at until"));
  EXPECT_EQ(by_code(kShown[0]).exit_code, 1);
  ASSERT_EQ(node.stop(), 0);
  node.start();
  EXPECT_EQ(by_code(kShown[0]).exit_code, 1) << "a restart ends no lock";
  const json rows = node.ask_node({"user", "factor", "list"}).at("enrolments");
  EXPECT_TRUE(rows[0]["locked_until"].is_string());
  const auto unlocked = at_node({"user", "unlock", "Indah@reef.example"});
  EXPECT_EQ(unlocked.out, "codes of 'code' are looked at again at once\n");
  EXPECT_EQ(by_code(kShown[0]).exit_code, 0);
  EXPECT_EQ(at_node({"user", "unlock", "indah@reef.example"}).out,
            "nothing had been wrong, and nothing was locked\n");
  EXPECT_THAT(at_node({"audit"}).out, HasSubstr("user unlock"));
}

TEST_F(SecondFactors, WhatWouldFailIsFoundBeforehand) {
  node.plan(kCodes + kCard + "[sign_in]\nslow_after = 2\nslow_at_most = \"1h\"\n");
  node.start();
  const auto check = [&](const std::string& user) {
    return at_node({"user", "check", user, "--client", "here"});
  };
  const auto right = check("indah@reef.example");
  EXPECT_EQ(right.exit_code, 0) << right.out << right.error;
  EXPECT_THAT(right.out, HasSubstr("factor 'code' is asked for: any of 'indah's card'\naccepted: "));
  const auto none = check("made@reef.example");
  EXPECT_EQ(none.exit_code, 1);
  EXPECT_THAT(none.out, HasSubstr("factor 'code' is asked for: no token\nrejected: the user has no token"));
  for (int i = 0; i < 4; ++i) (void)by_code("000000");
  const auto locked = check("INDAH@reef.example");
  EXPECT_EQ(locked.exit_code, 1);
  EXPECT_THAT(locked.out, AllOf(HasSubstr("any of 'indah's card', locked until "),
                                HasSubstr("rejected: too many one-time codes of the user were wrong")));
  EXPECT_TRUE(support::eventually([&] {  // each wrong one is waited for longer than the one before
    (void)sign_in("indah@reef.example", "salah");
    const json body =
        json::parse(at_node({"user", "check", "indah@reef.example", "--client", "here", "--json"}).out);
    return body.value("outcome", "") == "reject" && body["passwords_wait"].is_string();
  }));
  EXPECT_EQ(check("siapa@reef.example").exit_code, 1);
}

TEST_F(SecondFactors, WrongPasswordsAreForgottenByUnlockingToo) {
  node.plan(kCodes + kCard + "[sign_in]\nslow_after = 2\nslow_at_most = \"1h\"\n");
  node.start();
  for (int i = 0; i < 14; ++i) (void)sign_in("indah@reef.example", "salah");
  EXPECT_EQ(by_code(kShown[0]).exit_code, 1);
  EXPECT_EQ(at_node({"user", "unlock", "indah@reef.example"}).out, "passwords are looked at again at once\n");
  EXPECT_EQ(by_code(kShown[0]).exit_code, 0);
}

TEST_F(SecondFactors, APageThatIsDamagedLetsNobodyInAndIsToldAndMended) {
  node.plan(kCodes + kCard);
  node.start();
  EXPECT_EQ(by_code(kShown[0]).exit_code, 0);
  ASSERT_EQ(node.stop(), 0);
  damage(node.path("data") / "codes.sqlite");
  node.start();
  EXPECT_EQ(by_code(kShown[1]).exit_code, 1);
  const json rows = node.ask_node({"user", "factor", "list"}).at("enrolments");
  EXPECT_THAT(rows[0].value("problem", ""), HasSubstr("what is kept of one-time codes cannot be read"));
  EXPECT_EQ(at_node({"user", "unlock", "indah@reef.example"}).exit_code, 0);
  EXPECT_EQ(by_code(kShown[1]).exit_code, 0);
}

}  // namespace
}  // namespace jembatan::blackbox
