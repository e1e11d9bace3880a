// One real server: starting, refusing to start, changing its plan, keeping what it acknowledged.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>
#include <signal.h>
#include <sys/stat.h>

#include <atomic>
#include <thread>

#include "blackbox/chain.h"
#include "support/second_encoder.h"

namespace jembatan::blackbox {
namespace {

using namespace std::chrono_literals;
using support::UdpPeer;
using testing::HasSubstr;
using testing::Not;

second::Bytes sign_in(int id, const std::string& authenticator = "0123456789abcdef") {
  return second::access_request(1, id, authenticator, "laut", "ombak-3", {{1, "tamu@reef.example"}});
}

support::Finished start_to_the_end(const TestNode& node) {
  return support::run({kServer, "--node", node.file()});
}

TEST(Start, APortInUseIsNamedWithTheProcessThatHasIt) {
  TestNode node("home");
  node.plan(kHere);
  const UdpPeer taken("127.0.0.1", node.access);
  const auto finished = start_to_the_end(node);
  EXPECT_EQ(finished.exit_code, 1);
  EXPECT_THAT(finished.error,
              HasSubstr("not started: address 127.0.0.1: UDP port " + std::to_string(node.access) +
                        " is in use by jembatan_blackb (process " + std::to_string(getpid()) + ")"));
}

TEST(Start, ASecondServerOnTheSameDataFolderOrPortIsRefused) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  const auto finished = start_to_the_end(node);
  EXPECT_EQ(finished.exit_code, 1);
  EXPECT_THAT(finished.error, HasSubstr("is in use by another jembatand"));
}

TEST(Start, EveryErrorOfThePlanIsReportedAtOnce) {
  TestNode node("home");
  node.plan("[[client]]\nname = \"a\"\nadress = \"192.0.2.1\"\nsecret = \"hunter-2\"\n", "clients");
  node.plan("[[realm]]\nname = \"x.example\"\nhandle = \"group:nobody\"\n", "realms");
  const auto finished = start_to_the_end(node);
  EXPECT_EQ(finished.exit_code, 1);
  EXPECT_THAT(finished.error, HasSubstr("clients.toml:3:1: error: unknown key 'adress' in client 'a'"));
  EXPECT_THAT(finished.error, HasSubstr("nearest: 'address'"));
  EXPECT_THAT(finished.error,
              HasSubstr("realms.toml:3:10: error: 'handle' names group 'nobody', which does not exist"));
  EXPECT_THAT(finished.error, HasSubstr("has 3 errors, 0 advice"));
  EXPECT_THAT(finished.error, Not(HasSubstr("hunter-2")));
}

TEST(Start, ADataFolderThatCannotBeUsedIsNamed) {
  TestNode node("home");
  node.plan(kHere);
  support::write_file(node.path("data"), "a file in its place");
  const auto finished = start_to_the_end(node);
  EXPECT_EQ(finished.exit_code, 1);
  EXPECT_THAT(finished.error, HasSubstr("not started: data folder '" + node.path("data").string() + "'"));
}

TEST(Start, ANodeFileWithMistakesIsRefusedWithTheirPlaces) {
  const support::TemporaryFolder folder;
  support::write_file(
      folder.path() / "node.toml",
      "name = \"x\"\nplan_foldr = \"p\"\ndata_folder = \"d\"\n[management]\naddress = \"192.0.2.1:8812\"\n");
  const auto finished = support::run({kServer, "--node", (folder.path() / "node.toml").string()});
  EXPECT_EQ(finished.exit_code, 1);
  EXPECT_THAT(finished.error, HasSubstr("node.toml:2:1: error: unknown key 'plan_foldr' in the node file"));
  EXPECT_THAT(finished.error, HasSubstr("is to listen on 192.0.2.1:8812 without TLS"));
  EXPECT_EQ(support::run({kServer}).exit_code, 2);
  EXPECT_EQ(support::run({kServer, "--nod", "x"}).exit_code, 2);
  EXPECT_EQ(support::run({kServer, "--help"}).exit_code, 0);
}

TEST(Reload, AChangedPlanIsInForceAndABrokenOneIsNot) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  const UdpPeer device;
  const auto reply_to = [&](int id) {
    device.send("127.0.0.1", node.access, sign_in(id));
    return device.receive(20000ms);
  };
  EXPECT_EQ(reply_to(1).at(0), 2);
  node.plan("[[client]\nname = broken");
  node.signal(SIGHUP);
  EXPECT_TRUE(node.log_has("the active plan stays in force"));
  EXPECT_THAT(node.log(), HasSubstr("plan.toml:1:10: error: not TOML"));
  EXPECT_EQ(reply_to(2).at(0), 2);
  std::string changed = kHere;
  changed.replace(changed.find("ombak-3"), 7, "ombak-4");
  node.plan(changed);
  node.signal(SIGHUP);
  EXPECT_TRUE(node.log_has("plan: revision 2 in force"));
  EXPECT_EQ(reply_to(3).at(0), 3);
}

TEST(Reload, LosesNoRequest) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  const UdpPeer device;
  std::atomic<bool> done{false};
  std::thread reloading([&] {
    for (int i = 0; i < 30; ++i) {
      (void)node.ask_node({"plan", "reload"});
    }
    done = true;
  });
  int asked = 0;
  int accepted = 0;
  for (; !done; ++asked) {
    std::string authenticator(16, 'a');
    std::memcpy(authenticator.data(), &asked, sizeof(asked));
    device.send("127.0.0.1", node.access, sign_in(asked % 256, authenticator));
    const auto reply = device.receive(20000ms);
    accepted += !reply.empty() && reply[0] == 2 ? 1 : 0;
  }
  reloading.join();
  EXPECT_EQ(asked, accepted);
  EXPECT_GT(asked, 30);
}

TEST(Accounting, EveryAcknowledgedRecordIsThereAfterKillMinus9) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  std::vector<std::string> acknowledged;
  std::atomic<bool> killed{false};
  std::thread load([&] {
    const UdpPeer device;
    for (int i = 0; i < 100000 && !killed; ++i) {
      const std::string session = "k" + std::to_string(i);
      const auto request =
          second::accounting_request(i % 256, "laut", {{40, std::string("\0\0\0\1", 4)}, {44, session}});
      device.send("127.0.0.1", node.accounting, request);
      second::Bytes reply;
      while (reply.empty() && !killed) reply = device.receive(500ms);
      if (reply.empty()) return;
      if (second::wrong_with_reply(reply, request, "laut").empty()) acknowledged.push_back(session);
    }
  });
  EXPECT_TRUE(support::eventually([&] {
    return node.ask_node({"node", "status"}).at("outcomes").at("accounted") >= 200;
  }));
  node.kill();
  killed = true;
  load.join();
  node.start();
  const auto records = node.ask_node({"accounting", "search", "--most", "10000"}).at("records");
  std::set<std::string> kept;
  for (const auto& record : records) EXPECT_TRUE(kept.insert(record.at("session_id")).second);
  EXPECT_GE(acknowledged.size(), 200U);
  for (const std::string& session : acknowledged) EXPECT_TRUE(kept.contains(session)) << session;
}

TEST(UnknownClient, IsDroppedAndTheLogHasTheCommandThatAddsIt) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  const UdpPeer stranger("127.0.0.9");
  for (int i = 0; i < 20; ++i) stranger.send("127.0.0.1", node.access, sign_in(i));
  EXPECT_TRUE(support::eventually([&] {
    return node.ask_node({"node", "status"}).at("outcomes").at("unknown-client") == 20;
  }));
  const std::string command =
      "jembatan client add NAME --address 127.0.0.9 --plan " + node.path("plan").string();
  EXPECT_TRUE(node.log_has("client 127.0.0.9: unknown-client"));
  EXPECT_TRUE(node.log_has(command));
  EXPECT_EQ(node.stop(), 0);
  const std::string log = node.log();
  EXPECT_THAT(log, HasSubstr("unknown-client 19 more"));  // one line, then a count
  EXPECT_THAT(log, HasSubstr("its user is '"));
  const auto added =
      client({"client", "add", "ship-9", "--address", "127.0.0.9", "--plan", node.path("plan").string()});
  EXPECT_EQ(added.exit_code, 0) << added.error;
  node.start();
  const std::string secret = support::read_file(node.path("plan") / "secrets" / "ship-9").substr(0, 32);
  const auto request =
      second::access_request(1, 9, "0123456789abcdef", secret, "ombak-3", {{1, "tamu@reef.example"}});
  stranger.send("127.0.0.1", node.access, request);
  EXPECT_EQ(second::wrong_with_reply(stranger.receive(20000ms), request, secret), "");
}

TEST(ClientAdd, RefusesWhatWouldBreakThePlanAndTakesNothingBack) {
  TestNode node("home");
  node.plan(kHere);
  const std::string plan = node.path("plan").string();
  const auto same = client({"client", "add", "other", "--address", "127.0.0.1", "--plan", plan});
  EXPECT_EQ(same.exit_code, 4);
  EXPECT_THAT(same.error, HasSubstr("has the address 127.0.0.1 of client"));
  EXPECT_FALSE(std::filesystem::exists(node.path("plan") / "clients.toml"));
  EXPECT_FALSE(std::filesystem::exists(node.path("plan") / "secrets" / "other"));
  EXPECT_EQ(client({"client", "add", "../x", "--address", "127.0.0.2", "--plan", plan}).exit_code, 2);
  EXPECT_EQ(client({"client", "add", "x", "--address", "127.0.0.300", "--plan", plan}).exit_code, 2);
  EXPECT_EQ(client({"plan", "check", plan}).exit_code, 0);
}

class ApiTest : public testing::Test {
 protected:
  void SetUp() override {
    node.plan(kHere);
    node.start();
    http = std::make_unique<httplib::Client>("127.0.0.1", node.management);
    token = node.token().substr(0, 64);
  }
  TestNode node{"home"};
  std::unique_ptr<httplib::Client> http;
  std::string token;
};

TEST_F(ApiTest, WantsTheTokenForEverythingButHealth) {
  EXPECT_EQ(http->Get("/healthz")->status, 200);
  for (const char* path : {"/v1/node", "/v1/sessions", "/v1/accounting/records", "/v1/events", "/nothing"}) {
    const auto refused = http->Get(path);
    EXPECT_EQ(refused->status, 401) << path;
    EXPECT_EQ(refused->get_header_value("Content-Type"), "application/problem+json");
  }
  http->set_bearer_token_auth("wrong");
  EXPECT_EQ(http->Get("/v1/node")->status, 401);
  http->set_bearer_token_auth(token.c_str());
  EXPECT_EQ(http->Get("/v1/node")->status, 200);
  EXPECT_EQ(http->Get("/nothing")->status, 404);
  EXPECT_EQ(http->Delete("/v1/node")->status, 405);
}

TEST_F(ApiTest, TheTokenFileIsForItsOwnerAlone) {
  struct stat found {};
  ASSERT_EQ(::stat(node.path("data/management.token").c_str(), &found), 0);
  EXPECT_EQ(found.st_mode & 0777, 0600U);
  EXPECT_EQ(node.stop(), 0);
  ::chmod(node.path("data/management.token").c_str(), 0644);
  EXPECT_THAT(start_to_the_end(node).error, HasSubstr("can be read by others; allowed: chmod 600"));
}

TEST_F(ApiTest, AQueryThatIsNotUnderstoodIsAProblemWithWhatIsAllowed) {
  http->set_bearer_token_auth(token.c_str());
  for (const char* query :
       {"?usr=x", "?most=many", "?most=99999999999999999999", "?open=maybe", "?most=-1"}) {
    const auto answer = http->Get(std::string("/v1/sessions") + query);
    EXPECT_EQ(answer->status, 400) << query;
    EXPECT_THAT(answer->body, HasSubstr("allowed: user, session_id, client, realm"));
  }
}

TEST_F(ApiTest, AReloadOfABrokenPlanNamesThePlaces) {
  http->set_bearer_token_auth(token.c_str());
  node.plan("[[client]]\nname = 3\n", "more");
  const auto answer = http->Post("/v1/plan/reload");
  EXPECT_EQ(answer->status, 422);
  const auto body = nlohmann::json::parse(answer->body);
  EXPECT_EQ(body.at("errors"), 3);
  EXPECT_EQ(body.at("problems")[0].at("file"), "more.toml");
  const auto reload = client({"plan", "reload", "--node", node.file()});
  EXPECT_EQ(reload.exit_code, 1);
  EXPECT_THAT(reload.error, HasSubstr("the active plan stays in force"));
  EXPECT_THAT(reload.error, HasSubstr("more.toml:2:8: error: 'name' is a whole number\n    2 | name = 3\n"));
}

TEST_F(ApiTest, ALargeBodyIsRefused) {
  std::signal(SIGPIPE, SIG_IGN);  // the node may close before all is sent
  http->set_bearer_token_auth(token.c_str());
  const auto answer = http->Post("/v1/plan/reload", std::string(10 << 20, 'x'), "text/plain");
  if (answer) {
    EXPECT_EQ(answer->status, 413);
  }
  EXPECT_EQ(http->Get("/v1/node")->status, 200);
}

TEST(JsonLog, IsOneDocumentALine) {
  TestNode node("home");
  support::write_file(node.path("node.toml"),
                      support::read_file(node.file()) + "\n[log]\nformat = \"json\"\nlevel = \"debug\"\n");
  node.plan(kHere);
  const support::Background server({kServer, "--node", node.file()}, node.path("log"));
  EXPECT_TRUE(node.log_has("is up"));
  const UdpPeer device;
  const auto request =
      second::access_request(1, 4, "0123456789abcdef", "laut", "x", {{1, "bad\"name\n\xff"}});
  device.send("127.0.0.1", node.access, request);
  EXPECT_TRUE(node.log_has("rejected"));
  std::istringstream lines(node.log());
  int documents = 0;
  for (std::string line; std::getline(lines, line) && !line.empty(); ++documents) {
    const auto document = nlohmann::json::parse(line, nullptr, false);
    EXPECT_TRUE(document.is_object() && document.contains("time") && document.contains("level")) << line;
  }
  EXPECT_GT(documents, 3);
}

}  // namespace
}  // namespace jembatan::blackbox
