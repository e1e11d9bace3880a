// Every call of the API, once right and once wrong: its bodies are as docs/openapi.yaml describes them.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>

#include "blackbox/chain.h"
#include "support/openapi.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::ElementsAre;

const std::string kGroup = R"(
[[group]]
name = "homes"
[[group.server]]
name = "home-1"
address = "192.0.2.9"
secret = "karang dari timur 7"
)";

class DescribedApi : public testing::Test {
 protected:
  void SetUp() override {
    node.start();
    http = std::make_unique<httplib::Client>("127.0.0.1", node.management);
    http->set_bearer_token_auth(node.token().substr(0, 64).c_str());
  }
  json get(const std::string& path, const std::string& query = "") {
    return held("GET " + path, http->Get(query.empty() ? path : path + "?" + query));
  }
  json post(const std::string& path, const json& body) {
    return held("POST " + path, http->Post(path, body.dump(), "application/json"));
  }
  json apply(const std::string& text) {
    return post("/v1/plan/apply",
                {{"files", {{{"name", "plan.toml"}, {"text", text}}}}, {"message", "trial"}});
  }

 private:
  json held(const std::string& call, const httplib::Result& answer) {
    EXPECT_TRUE(answer) << call;
    if (!answer) return {};
    const std::string type = answer->get_header_value("Content-Type");
    EXPECT_THAT(api.problems_of(call, answer->status, type.substr(0, type.find(';')), answer->body),
                ElementsAre())
        << answer->body;
    return json::parse(answer->body, nullptr, false);
  }

 protected:
  TestNode node{"home", "", TestNode::Plan::by_commands};
  std::unique_ptr<httplib::Client> http;
  support::OpenApi api;
};

TEST_F(DescribedApi, ThePlansCallsAreAsTheyAreDescribed) {
  EXPECT_EQ(apply(kHere + kGroup)["plan_revision"], 1);
  apply("[[client]]\nname = 3\n");
  post("/v1/plan/apply", {{"fles", 1}});
  const auto change = [&](const json& fields) {
    return post("/v1/plan/change",
                {{"changes", {{{"do", "set"}, {"kind", "client"}, {"name", "here"}, {"fields", fields}}}}});
  };
  EXPECT_EQ(change({{"waits", "20s"}, {"labels.place", "reef"}, {"requests_per_second", 50}})["changed"],
            true);
  change({{"waits", 20}});
  post("/v1/plan/change", {{"changes", {{{"do", "set"}, {"kind", "client"}, {"name", "hre"}}}}});
  post("/v1/plan/restore", {{"revision", 1}, {"dry_run", true}});
  post("/v1/plan/restore", {{"revision", 99}});
  post("/v1/plan/reload", json::object());
  EXPECT_EQ(get("/v1/plan/revisions", "since=1h")["revisions"].size(), 2U);
  get("/v1/plan/revisions", "since=never");
  EXPECT_EQ(get("/v1/plan/difference", "from=1&to=2")["changes"][0]["fields"][1]["after"], 50);
  get("/v1/plan/difference", "from=77");
  get("/v1/plan/files", "secrets=true");
  get("/v1/servers");
  get("/v1/plan/objects", "kind=client&address=127.0.0.1");
  get("/v1/plan/objects", "kind=user&realm=reef.example&group=none");
  get("/v1/plan/objects", "kind=boat");
  get("/v1/plan/objects", "kind=client&name=hre");
  apply(kHere + kGroup + "[[realm]]\nname = \"far.example\"\nhandle = \"group:homes\"\n");
  const json servers = get("/v1/servers")["servers"];
  ASSERT_EQ(servers.size(), 2U);  // access and accounting
  EXPECT_EQ(servers[0]["state"], "up");
  EXPECT_EQ(servers[0]["wanted_percent"], 100.0);
}

TEST_F(DescribedApi, SecretsTokensAndTheRecordAreAsTheyAreDescribed) {
  apply(kHere + kGroup);
  EXPECT_EQ(post("/v1/plan/secret", {{"client", "here"}, {"do", "show"}})["secret"], "laut");
  EXPECT_EQ(post("/v1/plan/secret", {{"server", "homes/home-1"}, {"do", "show"}})["secret"],
            "karang dari timur 7");
  post("/v1/plan/secret", {{"server", "homes/home-1"}, {"do", "rotate"}, {"secret", "pasang surut laut 9"}});
  EXPECT_EQ(post("/v1/plan/secret", {{"server", "homes/home-1"}, {"do", "show"}})["secret"],
            "pasang surut laut 9");
  post("/v1/plan/secret", {{"server", "homes/home-1"}, {"do", "finish"}});
  post("/v1/plan/secret", {{"server", "homes/home-2"}, {"do", "show"}});
  post("/v1/plan/secret", {{"client", "here"}, {"do", "rotate"}, {"until", "7d"}});
  post("/v1/plan/secret", {{"client", "here"}, {"do", "rotate"}});
  get("/v1/clients/rotations");
  post("/v1/plan/secret", {{"client", "here"}, {"do", "finish"}});
  post("/v1/plan/secret", {{"client", "here"}, {"server", "x"}, {"do", "show"}});
  post("/v1/tokens", {{"name", "wulan"}, {"role", "operator"}});
  post("/v1/tokens", {{"name", "wulan"}, {"role", "captain"}});
  get("/v1/tokens");
  post("/v1/tokens/revoke", {{"name", "wulan"}});
  post("/v1/tokens/revoke", {{"name", "nobody"}});
  get("/v1/audit", "since=10m&until=2040-01-01");
}

TEST_F(DescribedApi, WhatIsSaidOfRequestsIsAsItIsDescribed) {
  apply(kHere);
  EXPECT_EQ(client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                    "tamu@reef.example", "--password", "ombak-3", "NAS-Port-Type=Virtual", "NAS-Port=7"})
                .exit_code,
            0);
  for (const char* status : {"Start", "Stop"})
    EXPECT_EQ(
        client({"ask", "accounting", "--to", node.accounting_to(), "--secret", "laut", "--status", status,
                "--session-id", "s1", "--user", "tamu@reef.example", "Acct-Terminate-Cause=User-Request"})
            .exit_code,
        0);
  get("/v1/node");
  EXPECT_EQ(get("/v1/sessions", "user=tamu&open=false&since=1h")["sessions"][0]["terminate_cause"],
            "User-Request");
  EXPECT_EQ(get("/v1/sessions", "open=false&until=2020-01-01")["sessions"].size(), 0U);
  get("/v1/sessions", "opne=1");
  const json records = get("/v1/accounting/records", "user=tamu@reef.example&since=1h");
  EXPECT_EQ(records["records"].size(), 2U);
  const json requests = get("/v1/journal", "realm=reef.example&since=1h");
  ASSERT_EQ(requests["requests"].size(), 3U);
  const json entry = get("/v1/journal/entry", "number=1");
  EXPECT_THAT(entry["request"]["attributes"].dump(),
              testing::HasSubstr(R"({"depth":0,"name":"NAS-Port","value":7})"));
  EXPECT_THAT(entry["request"]["attributes"].dump(), testing::HasSubstr(R"("value":"tamu@reef.example"})"));
  get("/v1/journal/entry", "number=99");
  get("/v1/journal", "outcome=no");
  post("/v1/journal/unmask", {{"user", "tamu@reef.example"}, {"for", "10m"}});
  get("/v1/journal/unmask", "user=tamu@reef.example");
  get("/v1/journal/unmask", "user=nobody");
  post("/v1/explain", {{"client", "here"}, {"packet", "0107001400000000000000000000000000000000"}});
  post("/v1/explain", {{"client", "her"}, {"packet", "01"}});
  post("/v1/explain", {{"client", "here"}, {"packet", "zz"}});
}

}  // namespace
}  // namespace jembatan::blackbox
