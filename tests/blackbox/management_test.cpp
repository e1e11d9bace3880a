// The management interface as hostile, broken and slow callers meet it (issue 10, part 2).
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include <cstdlib>
#include <random>
#include <regex>
#include <thread>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using namespace std::chrono_literals;
using nlohmann::json;
using support::TcpPeer;
using testing::HasSubstr;
using testing::StartsWith;

class ManagementTest : public testing::Test {
 protected:
  void SetUp() override {
    node.plan(kHere);
    node.start();
    http = std::make_unique<httplib::Client>("127.0.0.1", node.management);
    http->set_bearer_token_auth(token().c_str());
  }
  std::string token() const { return node.token().substr(0, 64); }
  std::string bearer() const { return "Authorization: Bearer " + token() + "\r\n"; }
  // A token with a role, made by the command.
  std::string token_of(const std::string& role) {
    const auto made =
        client({"node", "token", "create", role, "--role", role, "--json", "--node", node.file()});
    EXPECT_EQ(made.exit_code, 0) << made.error;
    return json::parse(made.out).at("token");
  }
  bool alive() { return http->Get("/v1/node") && http->Get("/v1/node")->status == 200; }
  // Of this moment and the highest so far, in MiB.
  std::size_t most_memory() {
    std::smatch found;
    const std::string text = support::read_file("/proc/" + std::to_string(node.process()) + "/status");
    return std::regex_search(text, found, std::regex("VmHWM:\\s+([0-9]+)")) ? std::stoul(found[1]) / 1024 : 0;
  }

  TestNode node{"home"};
  std::unique_ptr<httplib::Client> http;
};

TEST_F(ManagementTest, OctetsThatAreNoTextEndNothing) {
  for (const std::string& request : {std::string("\xff\r\n"), std::string("GET /\xff\xfe HTTP/1.1\r\n\r\n"),
                                     "GET /v1/sessions?user=%ff%fe&%ff=%00 HTTP/1.1\r\n" + bearer() + "\r\n",
                                     "GET /v1/plan/objects?kind=%ff HTTP/1.1\r\n" + bearer() + "\r\n",
                                     "GET /v1/journal?text=%ff&outcome=%ff HTTP/1.1\r\n" + bearer() + "\r\n",
                                     std::string("\0\0\0\0", 4)}) {
    const TcpPeer peer(node.management);
    peer.send(request);
    const std::string answer = peer.receive_some(3000ms);
    EXPECT_TRUE(answer.empty() || answer.starts_with("HTTP/1.1 4") || answer.starts_with("HTTP/1.1 200"))
        << answer;
    EXPECT_TRUE(alive());
  }
}

TEST_F(ManagementTest, BodiesBeyondWhatIsReadAreRefusedWithAReason) {
  const auto answer = [&](const std::string& body) {
    return http->Post("/v1/explain", body, "application/json");
  };
  EXPECT_EQ(answer("{\"client\": 1e400}")->status, 400);
  EXPECT_THAT(answer(std::string(5000, '['))->body, HasSubstr("nested more than 32 levels deep"));
  EXPECT_THAT(answer("{\"a\": \"" + std::string(100, '[') + "\"}")->body, HasSubstr("unknown key 'a'"));
  const auto posted = http->Post(
      "/v1/plan/apply",
      json{{"files", {{{"name", "plan.toml"}, {"text", std::string(150000, '[')}}}}, {"dry_run", true}}
          .dump(),
      "application/json");
  EXPECT_EQ(posted->status, 422);
  EXPECT_THAT(posted->body, HasSubstr("nested more than 32 deep"));
  EXPECT_TRUE(alive());
}

TEST_F(ManagementTest, BodiesAreCountedWhileTheyCome) {
  std::vector<std::thread> senders;
  const std::string viewer = token_of("viewer");
  for (int i = 0; i < 8; ++i) {
    senders.emplace_back([&] {
      const TcpPeer peer(node.management);
      peer.send("POST /v1/explain HTTP/1.1\r\nAuthorization: Bearer " + viewer +
                "\r\nTransfer-Encoding: chunked\r\n\r\n");
      const std::string chunk = "10000\r\n" + std::string(0x10000, 'x') + "\r\n";
      int sent = 0;
      while (sent < 1000 && peer.send(chunk)) ++sent;
      EXPECT_LT(sent, 1000);  // 62 MiB: it was cut off before
    });
  }
  for (std::thread& sender : senders) sender.join();
  EXPECT_TRUE(alive());
  EXPECT_LT(most_memory(), 400U);
}

TEST_F(ManagementTest, HeadIsJudgedAsGetAndOtherMethodsAreNotThere) {
  httplib::Client viewer("127.0.0.1", node.management);
  viewer.set_bearer_token_auth(token_of("viewer").c_str());
  EXPECT_EQ(viewer.Head("/v1/node")->status, 200);
  EXPECT_EQ(viewer.Head("/v1/journal")->status, 403);
  EXPECT_EQ(viewer.Head("/v1/plan/files?secrets=true")->status, 403);
  EXPECT_EQ(viewer.Options("/v1/node")->status, 405);
  EXPECT_EQ(viewer.Put("/v1/tokens", "{}", "application/json")->status, 405);
  EXPECT_EQ(viewer.Get("/v1/tokens/revoke")->status, 405);
  EXPECT_EQ(viewer.Get("/v1/tokens/revoke")->get_header_value("Allow"), "POST");
  EXPECT_EQ(viewer.Get("/v1//node")->status, 404);
}

TEST_F(ManagementTest, SlowCallersHoldNobodyUp) {
  std::vector<std::unique_ptr<TcpPeer>> slow;
  for (int i = 0; i < 400; ++i) {
    slow.push_back(std::make_unique<TcpPeer>(node.management));
    slow.back()->send("GET /v1/node HTTP/1.1\r\nX-Slow: ");
  }
  EXPECT_EQ(http->Get("/healthz")->status, 200);
  EXPECT_TRUE(alive());
  EXPECT_TRUE(slow.front()->closes(4000ms));  // it had waited longest when there was no room
  EXPECT_TRUE(slow.back()->closes(20000ms));  // the whole header has one deadline
}

TEST_F(ManagementTest, ASecondNodeOnItsPortIsToldWhoHasIt) {
  TestNode other("other");
  other.management = node.management;
  support::write_file(
      other.path("node.toml"),
      std::regex_replace(support::read_file(other.file()), std::regex("address = \"127.0.0.1:[0-9]+\""),
                         "address = \"127.0.0.1:" + std::to_string(node.management) + "\""));
  other.plan(kHere);
  const auto ended = support::run({kServer, "--node", other.file()});
  EXPECT_EQ(ended.exit_code, 1);
  EXPECT_THAT(ended.error,
              HasSubstr("TCP port " + std::to_string(node.management) + " is in use by jembatand (process " +
                        std::to_string(node.process()) + ")"));
}

TEST_F(ManagementTest, ARevokedTokenEndsItsStreams) {
  const std::string viewer = token_of("viewer");
  const TcpPeer peer(node.management);
  peer.send("GET /v1/events HTTP/1.1\r\nAuthorization: Bearer " + viewer + "\r\n\r\n");
  EXPECT_THAT(peer.receive_some(3000ms), StartsWith("HTTP/1.1 200"));
  EXPECT_EQ(client({"node", "token", "revoke", "viewer", "--node", node.file()}).exit_code, 0);
  EXPECT_THAT(peer.receive(5000ms), testing::EndsWith("0\r\n\r\n"));  // the last chunk: an orderly end
}

TEST_F(ManagementTest, WrongTokensAreCountedToldAndSlowed) {
  httplib::Client stranger("127.0.0.1", node.management);
  stranger.set_bearer_token_auth("guess");
  int last = 0;
  for (int i = 0; i < 40; ++i) last = stranger.Get("/v1/node")->status;
  EXPECT_EQ(last, 429);
  EXPECT_TRUE(alive());  // whoever has a token is not held up
  EXPECT_TRUE(node.log_has("management: a request from 127.0.0.1 had no token of this node"));
  EXPECT_THAT(http->Get("/metrics")->body, HasSubstr("jembatan_management_refused_total 40"));
  EXPECT_EQ(client({"node", "token", "create", "local", "--role", "viewer", "--node", node.file()}).exit_code,
            4);
}

// Requests put together and broken by chance, from a fixed beginning, for JEMBATAN_FUZZ_SECONDS (10).
TEST_F(ManagementTest, IsNotBroughtDownByChance) {
  const char* given = std::getenv("JEMBATAN_FUZZ_SECONDS");
  const auto until =
      std::chrono::steady_clock::now() + std::chrono::seconds(given == nullptr ? 10 : std::atoi(given));
  std::mt19937 dice(20261125);
  const auto one_of = [&](const std::vector<std::string>& all) { return all[dice() % all.size()]; };
  const std::vector<std::string> kMethods{"GET",     "POST", "HEAD", "PUT", "DELETE",
                                          "OPTIONS", "get",  "\xff", ""};
  const std::vector<std::string> kPaths{"/healthz",
                                        "/readyz",
                                        "/metrics",
                                        "/v1/node",
                                        "/v1/sessions",
                                        "/v1/accounting/records",
                                        "/v1/plan/change",
                                        "/v1/plan/apply",
                                        "/v1/plan/objects",
                                        "/v1/plan/files",
                                        "/v1/plan/difference",
                                        "/v1/explain",
                                        "/v1/journal",
                                        "/v1/journal/entry",
                                        "/v1/audit",
                                        "/v1/tokens",
                                        "/",
                                        "//",
                                        "/%00",
                                        "/v1/events"};
  const std::vector<std::string> kQueries{"",
                                          "?kind=client",
                                          "?most=1",
                                          "?most=-1",
                                          "?user=%ff",
                                          "?number=99999999999999999999",
                                          "?from=0&to=1",
                                          "?label=a=b&label=",
                                          "?where=user%20==",
                                          "?&&==&",
                                          "?address=::1",
                                          "?kind=access&name=%00"};
  const std::vector<std::string> kBodies{
      "",
      "{}",
      "[]",
      "{\"changes\":[{\"do\":\"set\",\"kind\":\"client\",\"name\":\"x\",\"fields\":{\"labels.a\":1}}],\"dry_"
      "run\":true}",
      "{\"files\":[{\"name\":\"p.toml\",\"text\":\"[[client]]\"}],\"dry_run\":true}",
      "{\"client\":\"here\",\"packet\":\"010100140000\"}",
      "{\"changes\":[{\"do\":\"move\",\"kind\":\"access\"}],\"dry_run\":true}",
      "\xff\xfe",
      std::string(3000, '['),
      "{\"message\":1e999}"};
  std::uint64_t answers = 0;
  while (std::chrono::steady_clock::now() < until) {
    const std::string body = one_of(kBodies);
    std::string request =
        one_of(kMethods) + " " + one_of(kPaths) + one_of(kQueries) + " HTTP/1.1\r\nHost: x\r\n";
    if (dice() % 8 != 0) request += bearer();
    request += dice() % 4 == 0
                   ? "Transfer-Encoding: chunked\r\n\r\n5\r\n{\"a\":\r\n0\r\n\r\n"
                   : "Content-Length: " + std::to_string(body.size() + dice() % 2) + "\r\n\r\n" + body;
    for (std::size_t breaks = dice() % 4; breaks > 0; --breaks)
      request[dice() % request.size()] = static_cast<char>(dice());
    const TcpPeer peer(node.management);
    ASSERT_TRUE(peer.connected());
    peer.send(request);
    const std::string answer = peer.receive_some(20ms);
    EXPECT_THAT(answer, testing::Not(StartsWith("HTTP/1.1 500"))) << request;
    answers += answer.empty() ? 0 : 1;
  }
  EXPECT_GT(answers, 100U);
  EXPECT_TRUE(alive());
}

}  // namespace
}  // namespace jembatan::blackbox
