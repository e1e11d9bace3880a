// People who are in a directory: what is asked of it, and what becomes of what it says.
#include <gmock/gmock.h>

#include "support/journal.h"
#include "unit/engine/one_node.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;
using decide::Person;
using support::access_request;
using support::secret;
using testing::Contains;
using testing::HasSubstr;

constexpr const char* kPeople = R"plan(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
[[realm]]
name = "reef.example"
handle = "here"
directory = "crew"
[[access]]
name = "the bridge"
when = 'member of "crew" and directory.title == "Master"'
permit = true
[[access]]
name = "vouched for"
when = 'member of "crew"'
proof = "client"
permit = true
[sign_in]
slow_after = 3
[[directory]]
name = "crew"
servers = ["ldap://192.0.2.7", "ldap://192.0.2.8"]
base = "dc=reef"
filter = "(uid={user})"
attributes = ["title"]
answer_within = "1s"
)plan";

class LookingUp : public Handle {
 protected:
  LookingUp() { use(""); }
  void use(const std::string& more) {
    engine.use(board.go_live(support::plan_of(kPeople + more), 2), {clock.now(), out});
  }
  const Job::LookUp& ask(const std::string& user, const std::string& password, std::uint8_t identifier = 1) {
    receive(access_request(identifier).user(user).password(password).signed_with(secret("laut")));
    EXPECT_EQ(out.jobs.size(), 1U);
    ticket = out.jobs.at(0).ticket;
    asked_for = std::get<Job::LookUp>(out.jobs.at(0).work);
    return asked_for;
  }
  static Person master() {
    Person out;
    out.found = Person::Found::one;
    out.server = "ldap://192.0.2.7";
    out.name = "uid=wira,dc=reef";
    out.groups = {"crew"};
    out.attributes = {{"title", "Master"}};
    return out;
  }
  void say(Person person, const identity::StoredPassword& stored = {}) {
    out.clear();
    engine.on_done(ticket, LookedUp{std::make_shared<const Person>(std::move(person)), stored},
                   {clock.now(), out});
  }
  void say_password(Person::Password password) {
    Person person = master();
    person.password = password;
    say(person);
  }
  std::string reason() const { return reason_text(event()); }

  Ticket ticket;
  Job::LookUp asked_for;
};

TEST_F(LookingUp, AsksForWhoSignsInWithWhatWasTyped) {
  const Job::LookUp& job = ask("WIRA@reef.example", "karang-21");
  EXPECT_EQ(job.user, "WIRA");
  EXPECT_EQ(job.name, "WIRA@reef.example");
  EXPECT_EQ(text_of(job.typed->reveal()), "karang-21");
  EXPECT_FALSE(job.stored);
  EXPECT_EQ(job.within, 4s) << "each server, the groups, and a turn";
  say_password(Person::Password::right);
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  EXPECT_EQ(reason(), "an access rule permits (the bridge)");
  EXPECT_THAT(support::kept_entry(event()).trail,
              Contains(HasSubstr("directory 'crew' (ldap://192.0.2.7): uid=wira,dc=reef, in 'crew'")));
}

TEST_F(LookingUp, ThePlansUsersAreNotLookedFor) {
  receive(access_request().user("tamu@reef.example").password("ombak-3").signed_with(secret("laut")));
  EXPECT_TRUE(out.jobs.empty());
  EXPECT_EQ(outcome(), "rejected");  // no rule is for it
}

TEST_F(LookingUp, RefusesEachWithItsReason) {
  struct {
    Person::Found found;
    Person::Account account;
    Person::Password password;
    const char* reason;
  } const cases[] = {
      {Person::Found::nobody, {}, {}, "nobody in the directory has this name"},
      {Person::Found::several, {}, {}, "several entries of the directory have this name"},
      {Person::Found::one, {}, Person::Password::wrong, "wrong password"},
      {Person::Found::one, Person::Account::locked, Person::Password::wrong,
       "the directory says: the account is locked"},
      {Person::Found::one, Person::Account::must_change, Person::Password::right,
       "the directory says: the password must be changed first"},
      {Person::Found::one,
       {},
       Person::Password::not_asked,
       "the directory shows this node no password of the user: what may the account read?"},
  };
  std::uint8_t identifier = 1;
  for (const auto& one : cases) {
    (void)ask("wira" + std::to_string(identifier) + "@reef.example", "x", identifier);
    Person person = master();
    person.found = one.found;
    person.account = one.account;
    person.password = one.password;
    say(person);
    EXPECT_EQ(reply_code(), wire::Code::access_reject);
    EXPECT_EQ(reason(), one.reason);
    ++identifier;
  }
}

TEST_F(LookingUp, RefusesOrKeepsSilentWhenItIsSilent) {
  (void)ask("wira@reef.example", "x");
  clock.advance(4s);
  out.clear();
  engine.on_timer({clock.now(), out});
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
  EXPECT_EQ(reason(), "no server of the directory answered ('crew': it was not done in time)");
  EXPECT_EQ(engine.in_flight(), 0U);
  say_password(Person::Password::right);  // too late
  EXPECT_TRUE(out.replies.empty());

  use("when_silent = \"ignore\"\n");
  (void)ask("wira@reef.example", "x", 2);
  Person nobody;
  nobody.why = "no answer in time";
  say(nobody);
  EXPECT_TRUE(out.replies.empty());
  EXPECT_EQ(outcome(), "no-answer");
}

TEST_F(LookingUp, IsNotAskedForWhoGuesses) {
  for (std::uint8_t i = 1; i <= 3; ++i) {
    (void)ask("wira@reef.example", "x", i);
    say_password(Person::Password::wrong);
  }
  receive(access_request(9).user("wira@reef.example").password("x").signed_with(secret("laut")));
  EXPECT_TRUE(out.jobs.empty());
  EXPECT_THAT(reason(), HasSubstr("too many wrong passwords in a row"));
  // In parallel neither: what is under way counts as wrong.
  clock.advance(2h);
  std::size_t questions = 0;
  for (std::uint8_t i = 20; i < 40; ++i) {
    receive(access_request(i).user("indah@reef.example").password("x").signed_with(secret("laut")));
    questions += out.jobs.size();
  }
  EXPECT_EQ(questions, 3U);
}

TEST_F(LookingUp, DoesNotCountSilenceAsWrong) {
  for (std::uint8_t i = 1; i <= 8; ++i) {
    (void)ask("wira@reef.example", "x", i);
    Person nobody;
    say(nobody);
  }
  (void)ask("wira@reef.example", "karang-21", 100);
  say_password(Person::Password::right);
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
}

TEST_F(LookingUp, RefusesAMethodThatItCannotProveBeforeItIsAsked) {
  const Octets chap = *from_hex("0313" + std::string(34, '1'));  // CHAP-Password
  receive(access_request().user("wira@reef.example").plus(chap).signed_with(secret("laut")));
  EXPECT_TRUE(out.jobs.empty());
  EXPECT_EQ(reason(), "what the directory says of passwords does not prove this method ('crew', chap)");
}

TEST_F(LookingUp, KnowsWhomTheClientVouchesFor) {
  receive(access_request().user("wira@reef.example").signed_with(secret("laut")));
  ASSERT_EQ(out.jobs.size(), 1U);
  ticket = out.jobs.at(0).ticket;
  EXPECT_FALSE(std::get<Job::LookUp>(out.jobs.at(0).work).typed);
  say(master());
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  EXPECT_EQ(reason(), "an access rule permits (vouched for)");
  receive(access_request(2).user("siapa@reef.example").signed_with(secret("laut")));
  ticket = out.jobs.at(0).ticket;
  Person nobody;
  nobody.found = Person::Found::nobody;
  say(nobody);
  EXPECT_EQ(reply_code(), wire::Code::access_reject);
}

TEST_F(LookingUp, ComparesWhatItGivesOut) {
  use("passwords = { nt = \"ntHash\" }\n");
  const Job::LookUp& job = ask("wira@reef.example", "karang-21");
  EXPECT_TRUE(job.stored);
  EXPECT_FALSE(job.typed);
  say(master(), *identity::StoredPassword::nt(Secret("19dcc6aba452c1ea7eb1bd1e9571ca44")));
  EXPECT_EQ(reply_code(), wire::Code::access_accept);
  (void)ask("wira@reef.example", "karang-22", 2);
  say(master(), *identity::StoredPassword::nt(Secret("19dcc6aba452c1ea7eb1bd1e9571ca44")));
  EXPECT_EQ(reason(), "wrong password");
}

TEST_F(LookingUp, EndsWithTheNode) {
  (void)ask("wira@reef.example", "x");
  out.clear();
  engine.stop({clock.now(), out});
  EXPECT_EQ(outcome(), "stopped");
  EXPECT_EQ(engine.in_flight(), 0U);
}

}  // namespace
}  // namespace jembatan::engine
