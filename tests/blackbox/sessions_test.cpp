// Sessions that are ended and changed at their device (RFC 5176): by command, and for another server.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::HasSubstr;

class SessionsAtTheirDevice : public testing::Test {
 protected:
  void SetUp() override {
    hub.plan(
        "[[client]]\nname = \"deck\"\naddress = \"127.0.0.1\"\nsecret = \"laut\"\nauthorization_port = " +
        std::to_string(device_port) + R"(
[[client]]
name = "reef-1"
address = "127.0.0.2"
secret = "terumbu"
listeners = ["authorization"]
may_disconnect = ["reef.example"]
[[client]]
name = "lagoon-1"
address = "127.0.0.3"
secret = "danau"
may_disconnect = ["lagoon.example"]
[[realm]]
name = "reef.example"
handle = "here"
)");
    hub.start();
    const auto asked =
        client({"ask", "accounting", "--to", hub.accounting_to(), "--secret", "laut", "--status", "Start",
                "--session-id", "s1", "--user", "tamu@reef.example", "NAS-Port=3"});
    EXPECT_EQ(asked.exit_code, 0) << asked.out << asked.error;
  }
  void play_device(const std::string& answer) {
    device = std::make_unique<support::Background>(
        std::vector<std::string>{kClient, "device", "play", "--at",
                                 "127.0.0.1:" + std::to_string(device_port), "--secret", "laut", "--answer",
                                 answer},
        folder.path() / "device");
    EXPECT_TRUE(device_has("listens"));
  }
  std::string at_device() const { return support::read_file(folder.path() / "device"); }
  bool device_has(const std::string& text) const {
    return support::eventually([&] { return at_device().find(text) != std::string::npos; });
  }
  support::Finished ask(const std::string& from, const std::string& secret,
                        const std::string& session = "s1") const {
    return client({"ask", "disconnect", "--to", hub.authorization_to(), "--secret", secret, "--from", from,
                   "--session-id", session, "--tries", "1"});
  }
  support::Finished on_hub(std::vector<std::string> words) const {
    words.insert(words.end(), {"--node", hub.file()});
    return client(std::move(words));
  }

  support::TemporaryFolder folder;
  int device_port = support::free_port();
  TestNode hub{"hub"};
  std::unique_ptr<support::Background> device;
};

TEST_F(SessionsAtTheirDevice, AreEndedByCommandAndByTheServerThatMay) {
  play_device("ack");
  const auto ended = on_hub({"session", "disconnect", "1"});
  EXPECT_EQ(ended.exit_code, 0) << ended.out << ended.error;
  EXPECT_THAT(ended.out, HasSubstr("Disconnect-ACK"));
  const auto by_reef = ask("127.0.0.2", "terumbu");
  EXPECT_EQ(by_reef.exit_code, 0) << by_reef.out;
  EXPECT_TRUE(device_has("User-Name              \"tamu@reef.example\"")) << at_device();
  // Told where people look: who did it here, and what came from there.
  EXPECT_THAT(hub.ask_node({"audit", "--action", "session"}).dump(),
              HasSubstr("session 1 of tamu@reef.example"));
  EXPECT_TRUE(hub.log_has("acknowledged packet=Disconnect-Request client=reef-1"));
  EXPECT_TRUE(support::eventually([&] {
    return hub.ask_node({"journal", "search", "--outcome", "acknowledged"}).dump().find("at client deck") !=
           std::string::npos;
  }));
}

TEST_F(SessionsAtTheirDevice, AreNotFoundByAServerOfOtherRealmsAndTheLogSaysWhy) {
  play_device("ack");
  const auto by_lagoon = ask("127.0.0.3", "danau");
  EXPECT_EQ(by_lagoon.exit_code, 1) << by_lagoon.out;
  EXPECT_THAT(by_lagoon.out, HasSubstr("503 Session-Context-Not-Found"));
  EXPECT_THAT(by_lagoon.out, testing::Not(HasSubstr("reef.example")));
  EXPECT_TRUE(hub.log_has("session 1 is of realm 'reef.example'"));
  EXPECT_EQ(ask("127.0.0.1", "laut").exit_code, 1) << "the device itself may nothing";
  EXPECT_TRUE(hub.log_has("if it may: 'may_disconnect = [\"REALM\"]' of client 'deck'"));
  EXPECT_NE(ask("127.0.0.2", "salah").exit_code, 0);
  EXPECT_TRUE(hub.log_has("wrong-signature packet=Disconnect-Request"));
  EXPECT_NE(ask("127.0.0.4", "x").exit_code, 0);
  EXPECT_TRUE(hub.log_has("unknown-client packet=Disconnect-Request"));
  EXPECT_EQ(at_device().find("Disconnect-Request"), std::string::npos) << "nothing reached it";
  // Where it may not sign anybody in, it is told so.
  (void)client({"ask", "access", "--to", hub.access_to(), "--secret", "terumbu", "--from", "127.0.0.2",
                "--user", "tamu@reef.example", "--password", "x", "--tries", "1", "--wait", "200ms"});
  EXPECT_TRUE(hub.log_has("wrong-listener"));
}

TEST_F(SessionsAtTheirDevice, AreChangedAndWhatTheDeviceRefusesIsSaidInWords) {
  play_device("nak 407");
  const auto changed = on_hub({"session", "change", "1", "Filter-Id=harbour-only", "Session-Timeout=600"});
  EXPECT_EQ(changed.exit_code, 1);
  EXPECT_THAT(changed.out, HasSubstr("refused: 407 Invalid-Attribute-Value"));
  EXPECT_TRUE(device_has("Filter-Id              \"harbour-only\"")) << at_device();
  EXPECT_THAT(on_hub({"session", "change", "1", "Filter-It=x"}).error, HasSubstr("Filter-Id"));
  EXPECT_THAT(on_hub({"session", "change", "1", "Tunnel-Password=x"}).error, HasSubstr("hidden attributes"));
  EXPECT_THAT(on_hub({"session", "change", "1", "nothing"}).error, HasSubstr("ATTRIBUTE=VALUE"));
  EXPECT_THAT(on_hub({"session", "change", "1"}).error, HasSubstr("'attributes' is missing"));
  EXPECT_THAT(on_hub({"session", "disconnect", "77"}).error, HasSubstr("there is no session 77"));
  EXPECT_THAT(on_hub({"session", "disconnect", "x"}).error, HasSubstr("no number of a session"));
}

TEST_F(SessionsAtTheirDevice, TellTheCommandThatMendsIt) {
  hub.plan("[[client]]\nname = \"deck\"\naddress = \"127.0.0.1\"\nsecret = \"laut\"\n");
  EXPECT_EQ(on_hub({"plan", "reload", "--force"}).exit_code, 0);
  const auto ended = on_hub({"session", "disconnect", "1"});
  EXPECT_EQ(ended.exit_code, 3);
  EXPECT_THAT(ended.out, HasSubstr("jembatan client set deck authorization_port=3799"));
  EXPECT_TRUE(hub.log_has("Disconnect-Request: no answer: the client of the session takes no such requests"));
}

TEST_F(SessionsAtTheirDevice, NeedTheRoleOfAnOperatorAndAnOpenSession) {
  const auto made = on_hub(
      {"node", "token", "create", "wulan", "--role", "viewer", "--out", (folder.path() / "token").string()});
  EXPECT_EQ(made.exit_code, 0) << made.error;
  const auto refused =
      client({"session", "disconnect", "1", "--url", "http://127.0.0.1:" + std::to_string(hub.management),
              "--token-file", (folder.path() / "token").string()});
  EXPECT_NE(refused.exit_code, 0);
  EXPECT_THAT(refused.error, HasSubstr("needs the role operator"));
  (void)client({"ask", "accounting", "--to", hub.accounting_to(), "--secret", "laut", "--status", "Stop",
                "--session-id", "s1", "--user", "tamu@reef.example", "NAS-Port=3"});
  EXPECT_TRUE(support::eventually([&] {
    return on_hub({"session", "disconnect", "1"}).error.find("session 1 has ended at") != std::string::npos;
  }));
}

}  // namespace
}  // namespace jembatan::blackbox
