// People who are in a directory: OpenLDAP's server, asked by real nodes.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>
#include <netinet/in.h>
#include <sys/socket.h>
#include <unistd.h>

#include <thread>

#include "blackbox/chain.h"
#include "support/slapd.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using support::ScratchDirectory;
using testing::AllOf;
using testing::HasSubstr;
using testing::Not;

const std::string kRealm = client_here("laut") + R"(
[[realm]]
name = "reef.example"
handle = "here"
directory = "crew"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
)";

const std::string kRules = R"(
[[access]]
name = "the bridge"
when = 'member of "crew" and directory.title == "Master"'
permit = true
reply = { Session-Timeout = "1h" }
[[access]]
name = "crew"
when = 'member of "crew"'
permit = true
)";

/// Takes connections and says nothing, stops behind the first octet of an answer, or sends without end.
class SilentListener {
 public:
  enum class Says : std::uint8_t { nothing, one_octet, too_much };
  explicit SilentListener(Says says = Says::nothing) : says_(says) {
    sockaddr_in address{};
    address.sin_family = AF_INET;
    address.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    socklen_t size = sizeof(address);
    auto* generic = reinterpret_cast<sockaddr*>(&address);
    if (::bind(fd_, generic, size) != 0 || ::listen(fd_, 64) != 0) ADD_FAILURE() << "no port";
    ::getsockname(fd_, generic, &size);
    port_ = ntohs(address.sin_port);
    if (says != Says::nothing) thread_ = std::thread([this] { begin_answers(); });
  }
  ~SilentListener() {
    ::shutdown(fd_, SHUT_RDWR);
    if (thread_.joinable()) thread_.join();
    ::close(fd_);
  }
  SilentListener(const SilentListener&) = delete;
  SilentListener& operator=(const SilentListener&) = delete;
  std::string url() const { return "ldap://127.0.0.1:" + std::to_string(port_); }

 private:
  void begin_answers() {
    std::vector<int> taken;
    for (int one = ::accept(fd_, nullptr, nullptr); one >= 0; one = ::accept(fd_, nullptr, nullptr)) {
      // 0x30: a SEQUENCE, as every message of LDAP is; of 2 GiB.
      const std::string begin =
          says_ == Says::one_octet ? "0" : "0\x84\x7f\xff\xff\xff" + std::string(1 << 20, 'x');
      (void)::send(one, begin.data(), begin.size(), MSG_NOSIGNAL | MSG_DONTWAIT);
      taken.push_back(one);
    }
    for (const int one : taken) ::close(one);
  }
  Says says_;
  int fd_ = ::socket(AF_INET, SOCK_STREAM, 0);
  int port_ = 0;
  std::thread thread_;
};

/// Passes on to a directory, but for connections on which somebody has said a word: those go no further.
class StallingRelay {
 public:
  StallingRelay(int to, std::string word) : to_(to), word_(std::move(word)) {
    sockaddr_in address = at(0);
    socklen_t size = sizeof(address);
    auto* generic = reinterpret_cast<sockaddr*>(&address);
    if (::bind(fd_, generic, size) != 0 || ::listen(fd_, 64) != 0) ADD_FAILURE() << "no port";
    ::getsockname(fd_, generic, &size);
    port_ = ntohs(address.sin_port);
    accepting_ = std::thread([this] { accept_all(); });
  }
  ~StallingRelay() {
    ::shutdown(fd_, SHUT_RDWR);
    accepting_.join();
    for (const int one : sockets_) ::shutdown(one, SHUT_RDWR);
    for (std::thread& one : carrying_) one.join();
    for (const int one : sockets_) ::close(one);
    ::close(fd_);
  }
  StallingRelay(const StallingRelay&) = delete;
  StallingRelay& operator=(const StallingRelay&) = delete;
  std::string url() const { return "ldap://127.0.0.1:" + std::to_string(port_); }

 private:
  static sockaddr_in at(int port) {
    sockaddr_in out{};
    out.sin_family = AF_INET;
    out.sin_addr.s_addr = htonl(INADDR_LOOPBACK);
    out.sin_port = htons(static_cast<std::uint16_t>(port));
    return out;
  }
  void accept_all() {
    for (int one = ::accept(fd_, nullptr, nullptr); one >= 0; one = ::accept(fd_, nullptr, nullptr)) {
      const int other = ::socket(AF_INET, SOCK_STREAM, 0);
      sockaddr_in address = at(to_);
      (void)::connect(other, reinterpret_cast<sockaddr*>(&address), sizeof(address));
      sockets_.insert(sockets_.end(), {one, other});
      carrying_.emplace_back([this, one, other] { carry(one, other, word_); });
      carrying_.emplace_back([this, one, other] { carry(other, one, ""); });
    }
  }
  static void carry(int from, int to, const std::string& but) {
    char octets[4096];
    bool stalls = false;
    for (ssize_t got = ::recv(from, octets, sizeof(octets), 0); got > 0;
         got = ::recv(from, octets, sizeof(octets), 0)) {
      const std::string_view said(octets, static_cast<std::size_t>(got));
      stalls = stalls || (!but.empty() && said.find(but) != std::string_view::npos);
      if (!stalls) (void)::send(to, octets, said.size(), MSG_NOSIGNAL);
    }
    ::shutdown(to, SHUT_RDWR);
  }
  int to_;
  std::string word_;
  int fd_ = ::socket(AF_INET, SOCK_STREAM, 0);
  int port_ = 0;
  std::vector<int> sockets_;  // of the accepting thread, until it has ended
  std::vector<std::thread> carrying_;
  std::thread accepting_;
};

class PeopleInADirectory : public testing::Test {
 protected:
  support::Finished sign_in(const std::string& user, const std::string& password,
                            const std::vector<std::string>& more = {}) const {
    std::vector<std::string> words{"ask",     "access", "--to",       node.access_to(), "--secret", "laut",
                                   "--user",  user,     "--password", password,         "--wait",   "20s",
                                   "--tries", "1"};
    words.insert(words.end(), more.begin(), more.end());
    return client(words);
  }
  /// Waits until the newest request of somebody has a reason with this in it: the journal is written behind
  /// answers.
  testing::AssertionResult reason_is(const std::string& user, const std::string& text) const {
    std::string found;
    const bool came = support::eventually(
        [&] {
          const json rows = node.ask_node({"journal", "search", "--user", user}).at("requests");
          found = rows.empty() ? "" : rows.front().value("reason", "");
          return found.find(text) != std::string::npos;
        },
        std::chrono::seconds(20));
    return came ? testing::AssertionSuccess() : testing::AssertionFailure() << user << ": " << found;
  }
  std::string trail_of(const std::string& user) const {
    std::string number;
    EXPECT_TRUE(support::eventually([&] {
      const json found = node.ask_node({"journal", "search", "--user", user});
      if (found.at("requests").empty()) return false;
      number = std::to_string(found.at("requests").front().value("number", 0));
      return true;
    }));
    return client({"journal", "show", number, "--node", node.file()}).out;
  }
  support::Finished check(std::vector<std::string> words) const {
    words.insert(words.begin(), {"directory", "check", "crew"});
    words.insert(words.end(), {"--node", node.file()});
    return client(std::move(words));
  }

  ScratchDirectory people;
  TestNode node{"reef"};
};

TEST_F(PeopleInADirectory, SignInWithTheirGroupsAndWhatItSaysOfThem) {
  people.start();
  node.plan(kRealm + people.plan() + kRules);
  node.start();
  const auto master = sign_in("wira@reef.example", "karang-21");
  EXPECT_EQ(master.exit_code, 0) << master.out << master.error;
  EXPECT_THAT(master.out, AllOf(HasSubstr("\"Master\""), HasSubstr("Session-Timeout        3600")));
  const auto engineer = sign_in("INDAH@reef.example", "poros-8");
  EXPECT_EQ(engineer.exit_code, 0) << engineer.out;
  EXPECT_THAT(engineer.out, AllOf(HasSubstr("\"Chief Engineer\""), Not(HasSubstr("Session-Timeout"))));
  EXPECT_EQ(sign_in("tamu@reef.example", "ombak-3").exit_code, 1)
      << "the plan's users come first; no rule has this one";
  EXPECT_TRUE(reason_is("tamu@reef.example", "no access rule matches"));
  EXPECT_THAT(
      trail_of("wira@reef.example"),
      AllOf(HasSubstr("uid=wira,ou=crew,dc=reef,dc=example, in 'crew', 'deck'"),
            HasSubstr("title is 'Master'"), HasSubstr("reply: Filter-Id \"Master\"  from directory 'crew'"),
            HasSubstr("directory.title == \"Master\" (the directory's title is 'Master')"),
            Not(HasSubstr("karang-21"))));
}

TEST_F(PeopleInADirectory, AreCheckedWithWhatItSaysOfThem) {
  people.start();
  node.plan(kRealm + people.plan() + kRules);
  node.start();
  const auto check = [&](const std::string& user) {
    return client({"user", "check", user, "--client", "here", "--node", node.file()});
  };
  const auto master = check("wira@reef.example");
  EXPECT_EQ(master.exit_code, 0) << master.out << master.error;
  EXPECT_THAT(master.out, AllOf(HasSubstr("uid=wira,ou=crew,dc=reef,dc=example, in 'crew', 'deck'"),
                                HasSubstr("accepted: an access rule permits ('the bridge')")));
  EXPECT_THAT(check("galih@reef.example").out,
              HasSubstr("rejected: the directory says: the account has expired"));
  EXPECT_THAT(check("siapa@reef.example").out, HasSubstr("rejected: nobody in the directory has this name"));
}

TEST_F(PeopleInADirectory, AreRefusedWithTheReasonInTheJournalAlone) {
  people.start();
  node.plan(kRealm + people.plan() + kRules);
  node.start();
  struct {
    std::string user, password, reason;
  } const cases[] = {
      {"wira@reef.example", "salah", "wrong password"},
      {"galih@reef.example", "layar-5", "the account has expired"},
      {"budi@reef.example", "satu-1", "several entries"},
      {"siapa@reef.example", "x", "nobody in the directory"},
      {"*)(uid=wira@reef.example", "karang-21", "nobody in the directory"},
      {"wira*@reef.example", "karang-21", "nobody in the directory"},
      {"wira@reef.example", "", "wrong password"},
  };
  for (const auto& one : cases) {
    const auto refused = sign_in(one.user, one.password);
    EXPECT_EQ(refused.exit_code, 1) << one.user << refused.out << refused.error;
    EXPECT_THAT(refused.out, Not(HasSubstr("Reply-Message"))) << one.user;
    EXPECT_TRUE(reason_is(one.user, one.reason)) << one.user;
  }
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21", {"--method", "chap"}).exit_code, 1);
  EXPECT_TRUE(reason_is("wira@reef.example", "does not prove this method ('crew', chap)"));
}

TEST_F(PeopleInADirectory, ProveChallengesByWhatItGivesOut) {
  people.start();
  node.plan(kRealm + people.plan() + "passwords = { nt = \"reefNtHash\" }\n");
  node.start();
  for (const char* method : {"ms-chap-v2", "ms-chap", "pap"}) {
    const auto right = sign_in("wira@reef.example", "karang-21", {"--method", method});
    EXPECT_EQ(right.exit_code, 0) << method << right.out;
    EXPECT_EQ(sign_in("wira@reef.example", "salah", {"--method", method}).exit_code, 1);
  }
  EXPECT_EQ(sign_in("indah@reef.example", "poros-8", {"--method", "ms-chap-v2"}).exit_code, 1);
  EXPECT_TRUE(reason_is("indah@reef.example", "shows this node no password"));
  EXPECT_EQ(sign_in("siapa@reef.example", "x", {"--method", "ms-chap-v2"}).exit_code, 1);
}

TEST_F(PeopleInADirectory, AreToldApartFromALockedAccountByTheJournalAlone) {
  people.start();
  node.plan(kRealm + people.plan() + "[sign_in]\nslow_after = 0\n");
  node.start();
  for (int i = 0; i < 5; ++i) (void)sign_in("wira@reef.example", "salah-" + std::to_string(i));
  const auto locked = sign_in("wira@reef.example", "karang-21");
  EXPECT_EQ(locked.exit_code, 1);
  EXPECT_THAT(locked.out, Not(HasSubstr("Reply-Message")));
  EXPECT_TRUE(reason_is("wira@reef.example", "the account is locked"));
}

TEST_F(PeopleInADirectory, AreNotAskedForWhoGuessesTooOften) {
  people.start();
  node.plan(kRealm + people.plan() + "[sign_in]\nslow_after = 1\nslow_at_most = \"1h\"\n");
  node.start();
  for (int i = 0; i < 6; ++i) (void)sign_in("wira@reef.example", "salah-" + std::to_string(i));
  EXPECT_TRUE(node.log_has("too many wrong passwords in a row"));
  // The directory, which locks after five, was asked less often.
  EXPECT_EQ(check({"--user", "wira@reef.example", "--password-file",
                   [&] {
                     support::write_file(node.path("password"), "karang-21");
                     return node.path("password").string();
                   }()})
                .exit_code,
            0);
}

TEST_F(PeopleInADirectory, AreRefusedWhileItIsSilentAndOthersAreNotHeld) {
  const SilentListener silent;
  node.plan(kRealm + ScratchDirectory::plan("\"" + silent.url() + "\"",
                                            "encryption = \"none\"\nanswer_within = \"500ms\""));
  node.start();
  const auto refused = sign_in("wira@reef.example", "karang-21");
  EXPECT_EQ(refused.exit_code, 1) << refused.out << refused.error;
  EXPECT_TRUE(reason_is("wira@reef.example", "no server of the directory answered ('crew': "));
  EXPECT_TRUE(node.log_has("look closer: jembatan directory check crew --user wira@reef.example --node "));
  EXPECT_TRUE(
      node.log_has("cannot be asked (no answer in time); look closer: jembatan directory check crew"));
  EXPECT_EQ(sign_in("tamu@reef.example", "ombak-3").exit_code, 0) << "users of the plan are not held";
  const json standing = node.ask_node({"directory", "status"});
  EXPECT_EQ(standing.at("directories").front().at("servers").front().value("state", ""), "down") << standing;
}

TEST_F(PeopleInADirectory, AreRefusedInTimeByASilentServerOfEveryKind) {
  const SilentListener silent;
  const std::string tls = "ldaps" + silent.url().substr(4);
  node.plan(kRealm +
            ScratchDirectory::plan("\"" + silent.url() + "\", \"" + tls + "\"", "answer_within = \"300ms\""));
  node.start();
  const auto refused = sign_in("wira@reef.example", "karang-21");  // StartTLS, then TLS at once
  EXPECT_EQ(refused.exit_code, 1) << refused.out << refused.error;
  EXPECT_TRUE(node.log_has(silent.url() + " cannot be asked"));
  EXPECT_TRUE(node.log_has(tls + " cannot be asked"));
}

TEST_F(PeopleInADirectory, AreRefusedInTimeByAServerThatStopsInTheMiddleOrSendsTooMuch) {
  for (const auto says : {SilentListener::Says::one_octet, SilentListener::Says::too_much}) {
    const SilentListener half(says);
    TestNode asks("asks");
    asks.plan(kRealm + ScratchDirectory::plan("\"" + half.url() + "\"",
                                              "encryption = \"none\"\nanswer_within = \"300ms\""));
    asks.start();
    for (const char* user : {"wira@reef.example", "indah@reef.example", "galih@reef.example"})
      EXPECT_EQ(client({"ask", "access", "--to", asks.access_to(), "--secret", "laut", "--user", user,
                        "--password", "x", "--wait", "20s", "--tries", "1"})
                    .exit_code,
                1);
    EXPECT_TRUE(asks.log_has(half.url() + " cannot be asked")) << asks.log();
  }
}

// A password that is proved somewhere behind the directory, where nobody answers.
TEST_F(PeopleInADirectory, AreNotHeldByOneOfThemForWhomThereIsNoAnswer) {
  people.start();
  const StallingRelay relay(people.port(), "macet-1");
  node.plan(kRealm +
            ScratchDirectory::plan("\"" + relay.url() + "\"",
                                   "encryption = \"none\"\nanswer_within = \"5s\"\nconnections = 2"));
  node.start();
  std::vector<std::thread> stuck;
  for (int i = 0; i < 2; ++i) stuck.emplace_back([this] { (void)sign_in("INDAH@reef.example", "macet-1"); });
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0) << node.log();
  for (std::thread& one : stuck) one.join();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0);
  EXPECT_EQ(node.log().find("cannot be asked"), std::string::npos) << node.log();
}

TEST_F(PeopleInADirectory, AreServedWhileItsConnectionsChange) {
  people.start();
  node.plan(kRealm + people.plan());
  node.start();
  for (int connections = 1; connections < 4; ++connections) {
    node.plan(kRealm + people.plan() + "connections = " + std::to_string(connections) + "\n");
    EXPECT_EQ(client({"plan", "reload", "--node", node.file()}).exit_code, 0);
    EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0);
  }
}

TEST_F(PeopleInADirectory, AreNotLookedForByAnAccountThatIsRefusedAgainAndAgain) {
  people.start();
  std::string plan = people.plan();
  plan.replace(plan.find("jangkar-di-dasar-selat"), 22, "salah");
  node.plan(kRealm + plan + "connections = 1\n");
  node.start();
  for (int i = 0; i < 8; ++i) EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 1);
  EXPECT_TRUE(reason_is("wira@reef.example", "it refuses the account cn=jembatan"));
  node.plan(kRealm + people.plan());  // the account is not locked: it was tried once
  EXPECT_EQ(client({"plan", "reload", "--node", node.file()}).exit_code, 0);
  EXPECT_TRUE(support::eventually([&] { return sign_in("wira@reef.example", "karang-21").exit_code == 0; }));
}

TEST_F(PeopleInADirectory, AreLookedForAtTheNextServerAndAtTheFirstWhenItIsBack) {
  people.start();
  const int gone = support::free_port();
  node.plan(kRealm + ScratchDirectory::plan("\"ldap://127.0.0.1:" + std::to_string(gone) + "\", \"" +
                                            people.url() + "\""));
  node.start();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0);
  EXPECT_TRUE(node.log_has("directory crew: ldap://127.0.0.1:" + std::to_string(gone) + " cannot be asked"))
      << node.log();
  people.stop();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 1)
      << "who is remembered is not let in without it";
  people.start();
  EXPECT_TRUE(support::eventually([&] { return sign_in("wira@reef.example", "karang-21").exit_code == 0; }));
  EXPECT_TRUE(node.log_has(people.url() + " can be asked again"));
}

TEST_F(PeopleInADirectory, AreRememberedUntilTheyAreForgotten) {
  people.start();
  node.plan(kRealm + people.plan() + kRules);
  node.start();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0);
  people.change(
      "dn: cn=deck,ou=groups,dc=reef,dc=example\nchangetype: modify\ndelete: member\nmember: "
      "uid=wira,ou=crew,dc=reef,dc=example\n\n");
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0) << "the groups are remembered";
  const auto forgotten = client({"directory", "forget", "Wira@reef.example", "--node", node.file()});
  EXPECT_THAT(forgotten.out, HasSubstr("1 entry forgotten"));
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 1);
  EXPECT_TRUE(reason_is("wira@reef.example", "no access rule matches"));
}

TEST_F(PeopleInADirectory, AreRememberedWithTheirGroupsWhereThePasswordIsGivenOut) {
  people.start();
  node.plan(kRealm + people.plan() + "passwords = { nt = \"reefNtHash\" }\n" + kRules);
  node.start();
  const std::vector<std::string> challenge{"--method", "ms-chap-v2"};
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21", challenge).exit_code, 0);
  people.change(
      "dn: cn=deck,ou=groups,dc=reef,dc=example\nchangetype: modify\ndelete: member\nmember: "
      "uid=wira,ou=crew,dc=reef,dc=example\n\n");
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21", challenge).exit_code, 0);
  EXPECT_EQ(client({"directory", "forget", "--node", node.file()}).exit_code, 0);
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21", challenge).exit_code, 1);
}

TEST_F(PeopleInADirectory, AreAskedForOverTlsWhereTheCertificateIsTrusted) {
  people.make_certificate("IP:127.0.0.1");
  people.start();
  const std::string trusted = "authorities = \"" + people.authority() + "\"";
  const std::string by_address = "\"" + people.url() + "\"";
  node.plan(kRealm + ScratchDirectory::plan(by_address, trusted));
  node.start();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0) << node.log();
  const auto checked = check({"--user", "wira@reef.example"});
  EXPECT_EQ(checked.exit_code, 0) << checked.out << checked.error;
  EXPECT_THAT(checked.out, HasSubstr("certificate of 127.0.0.1, signed by CN=Reef Line"));

  const auto with = [&](const std::string& servers, const std::string& more) {
    node.plan(kRealm + ScratchDirectory::plan(servers, more));
    EXPECT_EQ(client({"plan", "reload", "--node", node.file()}).exit_code, 0);
  };
  with(by_address, "");  // nobody knows who has signed it
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 1);
  EXPECT_THAT(check({}).out, AllOf(HasSubstr("NO encryption"), HasSubstr("who has signed it?")));
  with("\"ldaps://127.0.0.1:" + std::to_string(people.tls_port()) + "\"", trusted);
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0) << check({}).out;
}

TEST_F(PeopleInADirectory, AreNotAskedForAtAServerWithAnotherName) {
  people.make_certificate("DNS:ldap-1.reef.example");
  people.start();
  node.plan(kRealm + ScratchDirectory::plan("\"" + people.url() + "\"",
                                            "authorities = \"" + people.authority() + "\""));
  node.start();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 1);
  EXPECT_THAT(check({}).out,
              AllOf(HasSubstr("NO encryption"),
                    HasSubstr("ask it by a name that the certificate has (ldap-1.reef.example)")));
}

TEST_F(PeopleInADirectory, AreNotAskedForAtAServerWhoseCertificateHasExpired) {
  people.make_certificate("IP:127.0.0.1", ScratchDirectory::Valid::once);
  people.start();
  node.plan(kRealm + ScratchDirectory::plan("\"" + people.url() + "\"",
                                            "authorities = \"" + people.authority() + "\""));
  node.start();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 1);
  EXPECT_THAT(check({}).out,
              AllOf(HasSubstr("NO encryption"), HasSubstr("a new certificate for the server")));
}

TEST_F(PeopleInADirectory, AreInAGroupOfTenThousand) {
  std::string change = "dn: cn=deck,ou=groups,dc=reef,dc=example\nchangetype: modify\nadd: member\n";
  for (int i = 0; i < 10000; ++i)
    change += "member: uid=hand-" + std::to_string(i) + ",ou=crew,dc=reef,dc=example\n";
  people.change(change + "\n");
  people.start();
  node.plan(kRealm + people.plan() + kRules);
  node.start();
  EXPECT_EQ(sign_in("wira@reef.example", "karang-21").exit_code, 0) << node.log();
}

TEST_F(PeopleInADirectory, AreCounted) {
  people.start();
  node.plan(kRealm + people.plan());
  node.start();
  for (int i = 0; i < 2; ++i) (void)sign_in("wira@reef.example", "karang-21");
  httplib::Client http("127.0.0.1", node.management);
  http.set_default_headers({{"Authorization", "Bearer " + node.token()}});
  const auto page = http.Get("/metrics");
  ASSERT_TRUE(page);
  EXPECT_THAT(page->body,
              AllOf(HasSubstr("jembatan_directory_people_total{directory=\"crew\",by=\"server\"} 1\n"),
                    HasSubstr("jembatan_directory_people_total{directory=\"crew\",by=\"memory\"} 1\n"),
                    HasSubstr("jembatan_directory_server_down{directory=\"crew\",server=\"" + people.url() +
                              "\"} 0\n")));
}

TEST_F(PeopleInADirectory, AreNotFoundBecauseOfWhatTheCheckNames) {
  people.start();
  const auto checked = [&](const std::string& from, const std::string& to) {
    std::string plan = people.plan();
    plan.replace(plan.find(from), from.size(), to);
    node.plan(kRealm + plan);
    if (client({"plan", "reload", "--node", node.file()}).exit_code != 0) ADD_FAILURE() << plan;
    return check({"--user", "wira@reef.example"});
  };
  node.plan(kRealm + people.plan());
  node.start();
  EXPECT_EQ(check({"--user", "wira@reef.example"}).exit_code, 0);
  EXPECT_THAT(checked("base = \"ou=crew", "base = \"ou=people").out,
              AllOf(HasSubstr("NO base"), HasSubstr("dc=reef,dc=example is there, and has: ou=crew")));
  EXPECT_THAT(checked("jangkar-di-dasar-selat", "salah").out,
              AllOf(HasSubstr("NO account"), Not(HasSubstr("salah"))));
  EXPECT_THAT(checked("(uid={user})", "(mail={user})").out,
              AllOf(HasSubstr("NO person"), HasSubstr("(mail=wira)")));
  EXPECT_THAT(checked("ou=groups", "ou=teams").out, HasSubstr("NO groups"));
  EXPECT_THAT(checked("127.0.0.1:" + std::to_string(people.port()),
                      "127.0.0.1:" + std::to_string(support::free_port()))
                  .out,
              HasSubstr("NO connect"));
}

}  // namespace
}  // namespace jembatan::blackbox
