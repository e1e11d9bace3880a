// Three real servers in a row: edge → hub → home.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>

#include "blackbox/chain.h"
#include "support/second_encoder.h"

namespace jembatan::blackbox {
namespace {

using namespace std::chrono_literals;
using support::UdpPeer;
using testing::HasSubstr;
using testing::Not;

constexpr const char* kUsers = R"(
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "tamu@reef.example"
password = { clear = "ombak-3" }
reply = { vlan = 40, Session-Timeout = "2h" }
[[user]]
name = "sari@reef.example"
password = { hash = "$6$jembatan$l9sAIiCcOmx6wr0FUMEmaety7rOcqVTnJFU1HU23aRnlWkp/Z6ajAvSu5OAgdt4j5OCr1/.HShCTyZvJ4oJYv1" }
)";

class Chain : public testing::Test {
 protected:
  void SetUp() override {
    home.plan(client_here("reef-secret") + kUsers);
    hub.plan(client_here("radio-secret") + group_to("reef-homes", home, "reef-secret") +
             "[[realm]]\nname = \"reef.example\"\nhandle = \"group:reef-homes\"\n");
    edge.plan(client_here("deck-secret") + group_to("harbour", hub, "radio-secret") +
              "[realm_default]\nunknown = \"group:harbour\"\n");
    home.start();
    hub.start();
    edge.start();
  }
  support::Finished sign_in(const std::string& user, const std::string& password,
                            std::vector<std::string> more = {}) {
    std::vector<std::string> words{"ask",         "access", "--to", edge.access_to(), "--secret",
                                   "deck-secret", "--user", user,   "--password",     password};
    words.insert(words.end(), more.begin(), more.end());
    return client(words);
  }
  support::Finished account(const std::string& status, const std::string& session,
                            std::vector<std::string> more = {}) {
    std::vector<std::string> words{"ask",          "accounting",  "--to",     edge.accounting_to(),
                                   "--secret",     "deck-secret", "--status", status,
                                   "--session-id", session,       "--user",   "tamu@reef.example"};
    words.insert(words.end(), more.begin(), more.end());
    return client(words);
  }

  TestNode edge{"edge"};
  TestNode hub{"hub"};
  TestNode home{"home"};
};

TEST_F(Chain, TheRightPasswordIsAcceptedWithItsVlan) {
  const auto asked = sign_in("tamu@reef.example", "ombak-3");
  EXPECT_EQ(asked.exit_code, 0) << asked.out << asked.error;
  EXPECT_THAT(asked.out, HasSubstr("Tunnel-Private-Group-ID  \"40\""));
  EXPECT_THAT(asked.out, HasSubstr("Session-Timeout          7200"));
  EXPECT_THAT(
      asked.out,
      HasSubstr("accepted; the reply is genuine: Response Authenticator and Message-Authenticator verify"));
  EXPECT_TRUE(hub.log_has("user tamu@reef.example: accepted packet=Access-Request client=here"));
  EXPECT_TRUE(hub.log_has("server=reef-homes/reef-homes-1"));
  EXPECT_TRUE(home.log_has("(password matches)"));
}

TEST_F(Chain, AHashedPasswordWorksAndAWrongOneDoesNot) {
  EXPECT_EQ(sign_in("sari@reef.example", "laut-biru-7").exit_code, 0);
  const auto wrong = sign_in("sari@reef.example", "laut-biru-8");
  EXPECT_EQ(wrong.exit_code, 1);
  EXPECT_THAT(wrong.out, HasSubstr("rejected; the reply is genuine"));
  EXPECT_TRUE(home.log_has("user sari@reef.example: rejected"));
  EXPECT_TRUE(home.log_has("(wrong password)"));
}

TEST_F(Chain, AnUnknownRealmIsRefusedByTheHubWithAReason) {
  EXPECT_EQ(sign_in("x@nowhere.example", "x").exit_code, 1);
  EXPECT_TRUE(hub.log_has("(no realm of the plan matches (nowhere.example))"));
}

TEST_F(Chain, AWrongSecretIsSilenceOutsideAndAReasonInside) {
  const auto asked =
      client({"ask", "access", "--to", edge.access_to(), "--secret", "other", "--user", "tamu@reef.example",
              "--password", "ombak-3", "--tries", "1", "--wait", "300ms"});
  EXPECT_EQ(asked.exit_code, 3);
  EXPECT_THAT(asked.out, HasSubstr("no answer from " + edge.access_to() + " within 300ms"));
  EXPECT_TRUE(edge.log_has("client 127.0.0.1 (here): wrong-signature"));
  EXPECT_TRUE(edge.log_has("(Message-Authenticator does not verify: shared secret probably differs)"));
}

TEST_F(Chain, AccountingArrivesAtEveryHopOnce) {
  for (const char* status : {"Start", "Interim-Update", "Stop"}) {
    const auto asked = account(status, "s1", {"Acct-Input-Octets=1500", "Acct-Session-Time=60"});
    EXPECT_EQ(asked.exit_code, 0) << asked.out;
    EXPECT_THAT(asked.out, HasSubstr("recorded; the reply is genuine"));
  }
  for (const TestNode* node : {&edge, &hub, &home}) {
    EXPECT_TRUE(support::eventually([&] {
      return node->ask_node({"accounting", "search"}).at("records").size() == 3;
    }));
    const auto sessions = node->ask_node({"session", "list", "--ended"}).at("sessions");
    ASSERT_EQ(sessions.size(), 1U);
    EXPECT_EQ(sessions[0].at("user"), "tamu@reef.example");
    EXPECT_EQ(sessions[0].at("input_octets"), 1500);
    EXPECT_FALSE(sessions[0].at("ended").is_null());
    EXPECT_TRUE(node->ask_node({"session", "list"}).at("sessions").empty());
  }
}

TEST_F(Chain, AccountingWaitsForAHomeThatIsDownAlsoAcrossARestart) {
  EXPECT_EQ(home.stop(), 0);
  EXPECT_EQ(account("Start", "s1").exit_code, 0);
  EXPECT_TRUE(support::eventually([&] {
    return hub.ask_node({"accounting", "search"}).at("records").size() == 1;
  }));
  hub.kill();
  hub.start();
  home.start();
  EXPECT_TRUE(support::eventually([&] {
    return home.ask_node({"accounting", "search"}).at("records").size() == 1;
  }));
}

TEST_F(Chain, AResendWithANewIdentifierIsKeptOnce) {
  EXPECT_EQ(account("Start", "s1", {"Acct-Delay-Time=0"}).exit_code, 0);
  EXPECT_EQ(account("Start", "s1", {"Acct-Delay-Time=5"}).exit_code, 0);
  EXPECT_TRUE(edge.log_has("(a resend: this record is kept already (Start, record 1))"));
  EXPECT_EQ(edge.ask_node({"accounting", "search"}).at("records").size(), 1U);
}

TEST_F(Chain, StatusServerIsAnswered) {
  EXPECT_EQ(client({"ask", "status", "--to", edge.access_to(), "--secret", "deck-secret"}).exit_code, 0);
  EXPECT_EQ(client({"ask", "status", "--accounting", "--to", edge.accounting_to(), "--secret", "deck-secret"})
                .exit_code,
            0);
}

TEST_F(Chain, AnIndependentDeviceGetsAGenuineReplyAndTheSameOnesAgain) {
  const UdpPeer device;
  const auto request = second::access_request(1, 77, "0123456789abcdef", "deck-secret", "ombak-3",
                                              {{1, "tamu@reef.example"}, {32, "deck"}, {33, "mine"}});
  device.send("127.0.0.1", edge.access, request);
  const auto first = device.receive(20000ms);
  EXPECT_EQ(second::wrong_with_reply(first, request, "deck-secret"), "");
  EXPECT_EQ(first.at(0), 2);
  EXPECT_EQ(second::value_of(first, 81), "40");
  EXPECT_EQ(second::value_of(first, 33), "mine");
  device.send("127.0.0.1", edge.access, request);
  EXPECT_EQ(device.receive(20000ms), first);
  const auto record = second::accounting_request(
      78, "deck-secret", {{40, std::string("\0\0\0\1", 4)}, {44, "x1"}, {1, "tamu@reef.example"}});
  device.send("127.0.0.1", edge.accounting, record);
  EXPECT_EQ(second::wrong_with_reply(device.receive(20000ms), record, "deck-secret"), "");
}

TEST_F(Chain, NoSecretAndNoPasswordReachesALog) {
  sign_in("tamu@reef.example", "ombak-3");
  sign_in("tamu@reef.example", "ombak-salah");
  sign_in("sari@reef.example", "laut-biru-7");
  account("Start", "s1");
  for (TestNode* node : {&edge, &hub, &home}) {
    EXPECT_EQ(node->stop(), 0);
    for (const char* hidden :
         {"ombak-3", "ombak-salah", "laut-biru-7", "deck-secret", "radio-secret", "reef-secret", "$6$"}) {
      EXPECT_THAT(node->log(), Not(HasSubstr(hidden)));
    }
    EXPECT_THAT(node->log(), Not(HasSubstr(node->token().substr(0, 32))));
  }
}

TEST_F(Chain, FollowShowsWhatHappensLive) {
  const auto followed = hub.path("followed");
  support::Background follow({kClient, "follow", "--node", hub.file(), "--count", "1"}, followed);
  const bool shown = support::eventually([&] {  // the follower may connect later than the first sign-ins
    sign_in("tamu@reef.example", "ombak-3");
    return !follow.running();
  });
  EXPECT_TRUE(shown);
  EXPECT_THAT(support::read_file(followed), HasSubstr("tamu@reef.example"));
  EXPECT_THAT(support::read_file(followed), HasSubstr("accepted"));
  EXPECT_THAT(support::read_file(followed), HasSubstr("[reef-homes/reef-homes-1]"));
}

TEST_F(Chain, CaptureWritesTheNodesTrafficForAnyAnalyser) {
  const std::string out = hub.path("hub.pcap").string();
  const std::string for_user = hub.path("user.pcap").string();
  // Longer than any machine needs; ended when all is in it.
  support::Background all({kClient, "capture", "--node", hub.file(), "--for", "5m", "--out", out},
                          hub.path("c1"));
  support::Background some({kClient, "capture", "--node", hub.file(), "--for", "5m", "--user",
                            "tamu@reef.example", "--out", for_user},
                           hub.path("c2"));
  const auto begun = [](const std::string& file) {
    std::error_code failed;
    return std::filesystem::file_size(file, failed) >= 24 && !failed;
  };
  ASSERT_TRUE(support::eventually([&] { return begun(out) && begun(for_user); }));
  sign_in("sari@reef.example", "laut-biru-7");
  sign_in("tamu@reef.example", "ombak-3");
  support::write_file(hub.path("radio"), "radio-secret");
  const auto decode = [&](const std::string& file) {
    const auto decoded =
        client({"decode", "--capture", file, "--secret-file", hub.path("radio").string(), "--json"});
    return nlohmann::json::parse(decoded.out, nullptr, false).value("packets", nlohmann::json::array());
  };
  EXPECT_TRUE(support::eventually([&] { return decode(out).size() == 8 && decode(for_user).size() == 4; }));
  all.signal(SIGKILL);
  some.signal(SIGKILL);
  EXPECT_EQ(client({"capture", "--node", hub.file(), "--for", "100ms", "--out", out + "1"}).exit_code, 0);
  const auto packets = decode(out);
  ASSERT_EQ(packets.size(), 8U);  // two sign-ins: in, on, back, out
  EXPECT_EQ(packets[0].at("to"), hub.access_to());
  EXPECT_THAT(packets[0].at("checks").dump(), HasSubstr("Message-Authenticator right"));
  EXPECT_THAT(packets[0].dump(), HasSubstr("laut-biru-7"));
  const auto of_tamu = decode(for_user);
  ASSERT_EQ(of_tamu.size(), 4U);
  EXPECT_THAT(of_tamu.dump(), Not(HasSubstr("sari")));
  EXPECT_EQ(of_tamu[3].at("from"), hub.access_to());
  const auto again = client({"capture", "--node", hub.file(), "--out", out});
  EXPECT_EQ(again.exit_code, 1);
  EXPECT_THAT(again.error, HasSubstr("File exists"));
  const auto nobody = client({"capture", "--node", hub.file(), "--client", "her", "--out", out + "2"});
  EXPECT_EQ(nobody.exit_code, 2);
  EXPECT_THAT(nobody.error, HasSubstr("client 'her' not found; nearest: 'here'"));
}

TEST_F(Chain, CountersOfOutcomesAddUpToTheDatagramsReceived) {
  sign_in("tamu@reef.example", "ombak-3");
  sign_in("x@nowhere.example", "x");
  const UdpPeer noise;
  for (int i = 0; i < 50; ++i)
    noise.send("127.0.0.1", edge.access, std::vector<unsigned char>(static_cast<std::size_t>(i), 7));
  nlohmann::json status;
  EXPECT_TRUE(support::eventually([&] {
    status = edge.ask_node({"node", "status"});
    return status.at("outcomes").at("malformed") == 50;
  }));
  std::uint64_t sum = 0;
  for (const auto& [outcome, count] : status.at("outcomes").items()) sum += count.get<std::uint64_t>();
  EXPECT_EQ(status.at("received"), sum);
  EXPECT_EQ(status.at("outcomes").at("accepted"), 1);
}

TEST_F(Chain, AStopAnswersWhatIsUnderWay) {
  home.signal(SIGSTOP);  // the answer is held back
  const UdpPeer device;
  const auto request =
      second::access_request(1, 5, "0123456789abcdef", "deck-secret", "ombak-3", {{1, "tamu@reef.example"}});
  EXPECT_TRUE(support::eventually([&] {
    device.send("127.0.0.1", edge.access, request);  // as devices do, again and again
    return edge.ask_node({"node", "status"}).at("in_flight") == 1;
  }));
  edge.signal(SIGTERM);
  EXPECT_TRUE(edge.log_has("node edge stops"));
  home.signal(SIGCONT);
  EXPECT_EQ(second::wrong_with_reply(device.receive(20000ms), request, "deck-secret"), "");
  EXPECT_EQ(edge.wait(), 0);
  EXPECT_THAT(edge.log(), HasSubstr("node edge has stopped"));
}

}  // namespace
}  // namespace jembatan::blackbox
