// The life of a plan in a real server: applies, conflicts, roles, TLS, and ends in the middle of it.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>
#include <signal.h>

#include <atomic>
#include <csignal>
#include <thread>

#include "blackbox/chain.h"
#include "support/second_encoder.h"

namespace jembatan::blackbox {
namespace {

using namespace std::chrono_literals;
using nlohmann::json;
using support::UdpPeer;
using testing::HasSubstr;
using testing::Not;

std::string many_clients(int count, const std::string& note) {
  std::string out;
  for (int i = 0; i < count; ++i) {
    const std::string n = std::to_string(i);
    out += "[[client]]\nname = \"deck-" + n + "\"\naddress = \"198.18." + std::to_string(i / 256) + "." +
           std::to_string(i % 256) + "\"\nsecret = \"a secret that is long enough " + n + "\"\nnote = \"" +
           note + "\"\n";
  }
  return out;
}

// A node whose plan is changed by commands.
class Commanded : public testing::Test {
 protected:
  Commanded() : node("hub", "", TestNode::Plan::by_commands) {
    std::signal(SIGPIPE, SIG_IGN);
    node.start();
    http = std::make_unique<httplib::Client>("127.0.0.1", node.management);
    http->set_bearer_token_auth(node.token().substr(0, 64).c_str());
    http->set_read_timeout(120);
  }
  json post(const std::string& path, const json& body) {
    const auto answer = http->Post(path, body.dump(), "application/json");
    status = answer ? answer->status : 0;
    return answer ? json::parse(answer->body, nullptr, false) : json();
  }
  json apply(const std::string& text, json more = json::object()) {
    more["files"] = json::array({{{"name", "plan.toml"}, {"text", text}}});
    return post("/v1/plan/apply", more);
  }
  json get(const std::string& path) {
    const auto answer = http->Get(path);
    status = answer ? answer->status : 0;
    return answer ? json::parse(answer->body, nullptr, false) : json();
  }
  bool sign_in(int id) {
    const UdpPeer device;
    device.send(
        "127.0.0.1", node.access,
        second::access_request(1, id, "0123456789abcdef", "laut", "ombak-3", {{1, "tamu@reef.example"}}));
    const auto reply = device.receive(2s);
    return !reply.empty() && reply[0] == 2;
  }

  TestNode node;
  std::unique_ptr<httplib::Client> http;
  int status = 0;
};

TEST_F(Commanded, LivesThroughRevisionsAndRestarts) {
  EXPECT_EQ(http->Get("/readyz")->status, 503);
  EXPECT_EQ(apply(kHere, {{"message", "first"}})["plan_revision"], 1);
  EXPECT_EQ(http->Get("/readyz")->status, 200);
  EXPECT_TRUE(sign_in(1));
  const auto off =
      post("/v1/plan/change",
           {{"changes",
             {{{"do", "set"}, {"kind", "client"}, {"name", "here"}, {"fields", {{"enabled", false}}}}}}});
  EXPECT_EQ(off["plan_revision"], 2);
  EXPECT_FALSE(sign_in(2));
  node.stop();
  node.start();
  EXPECT_EQ(get("/v1/node")["plan_revision"], 2);
  EXPECT_EQ(post("/v1/plan/restore", {{"revision", 1}})["plan_revision"], 3);
  EXPECT_TRUE(sign_in(3));
  EXPECT_EQ(get("/v1/plan/revisions")["revisions"].size(), 3U);
  EXPECT_EQ(get("/v1/plan/difference?from=1&to=3")["changes"].size(), 0U);
  EXPECT_THAT(node.log(), Not(HasSubstr("ombak-3")));
}

TEST_F(Commanded, APlanWithErrorsLeavesTheOldInForce) {
  apply(kHere);
  const json refused = apply(kHere + "[[realm]]\nname = \"x.example\"\nhandle = \"group:nowhere\"\n");
  EXPECT_EQ(status, 422);
  EXPECT_EQ(refused["problems"][0]["line"], 14);
  EXPECT_TRUE(sign_in(1));
  EXPECT_EQ(get("/v1/node")["plan_revision"], 1);
}

TEST_F(Commanded, OfTwoChangesOnOneBaseOneIsRefused) {
  apply(kHere);
  std::atomic<int> done{0};
  std::atomic<int> refused{0};
  std::vector<std::thread> people;
  for (int i = 0; i < 6; ++i) {
    people.emplace_back([&, i] {
      httplib::Client own("127.0.0.1", node.management);
      own.set_bearer_token_auth(node.token().substr(0, 64).c_str());
      const json body{{"base", 1},
                      {"changes",
                       {{{"do", "set"},
                         {"kind", "client"},
                         {"name", "here"},
                         {"fields", {{"note", std::to_string(i)}}}}}}};
      const auto answer = own.Post("/v1/plan/change", body.dump(), "application/json");
      if (answer && answer->status == 200) ++done;
      if (answer && answer->status == 409) ++refused;
    });
  }
  for (auto& person : people) person.join();
  EXPECT_EQ(done, 1);
  EXPECT_EQ(refused, 5);
  EXPECT_EQ(get("/v1/node")["plan_revision"], 2);
}

TEST_F(Commanded, BodiesThatAreNotUnderstoodAreRefusedWithAReason) {
  apply(kHere);
  const auto refused = [&](const std::string& path, const std::string& body) {
    const auto answer = http->Post(path, body, "application/json");
    if (!answer) return std::string("closed");
    return answer->status == 400 ? json::parse(answer->body)["detail"].get<std::string>()
                                 : std::to_string(answer->status);
  };
  EXPECT_EQ(refused("/v1/plan/change", "{\"changes\": ["), "the body is not JSON, at octet 14");
  EXPECT_THAT(refused("/v1/plan/change", "[]"), HasSubstr("not a JSON object"));
  EXPECT_THAT(refused("/v1/plan/change", R"({"chnges": []})"), HasSubstr("nearest: 'changes'"));
  EXPECT_THAT(refused("/v1/plan/change", R"({"changes": [{"do": "sett"}]})"),
              HasSubstr("allowed: add, set, put, remove, move"));
  EXPECT_THAT(refused("/v1/plan/change", R"({"changes": [3]})"), HasSubstr("no JSON object"));
  EXPECT_THAT(refused("/v1/plan/apply", R"({"files": [{"name": 3}]})"), HasSubstr("a file is"));
  EXPECT_THAT(refused("/v1/plan/apply", R"({"files": [], "base": -1})"), HasSubstr("'base'"));
  EXPECT_THAT(refused("/v1/plan/restore", R"({"revision": "one"})"), HasSubstr("no number"));
  EXPECT_EQ(refused("/v1/plan/restore", R"({"revision": 99})"), "404");
  EXPECT_THAT(refused("/v1/tokens", R"({"name": "x", "role": "king"})"),
              HasSubstr("viewer, operator or administrator"));
  EXPECT_THAT(refused("/v1/plan/restore", std::string(2 << 20, ' ')), testing::AnyOf("413", "closed"));
  std::string deep;
  for (int i = 0; i < 5000; ++i) deep += "{\"a\":";
  EXPECT_EQ(
      refused("/v1/plan/change", R"({"changes": [{"do":"set","kind":"client","name":"here","fields":{"x":)" +
                                     deep + "1" + std::string(5000, '}') + "}}]}"),
      "the body is nested more than 32 levels deep");
  EXPECT_EQ(get("/v1/plan/objects?kind=boat")["detail"],
            "'kind=boat'; allowed: dictionary, client, user, group, directory, factor, enrolment, realm, "
            "realm_default, "
            "sign_in, route, "
            "access, reply_set, edit");
  EXPECT_EQ(status, 400);
  for (const char* path : {"/v1/plan/files?revision=x", "/v1/plan/difference?from=-1",
                           "/v1/plan/revisions?most=", "/v1/audit?most=1e3"}) {
    EXPECT_THAT(get(path)["detail"].get<std::string>(), HasSubstr("is no number")) << path;
  }
  EXPECT_EQ(get("/v1/node")["plan_revision"], 1);
}

TEST_F(Commanded, AFileOfTheServersMachineCannotBeReadThroughAChange) {
  apply(kHere);
  const json body = post("/v1/plan/change", {{"changes",
                                              {{{"do", "set"},
                                                {"kind", "client"},
                                                {"name", "here"},
                                                {"fields", {{"secret", {{"file", "/etc/hostname"}}}}}}}}});
  EXPECT_EQ(status, 422);
  EXPECT_THAT(body["problems"][0]["text"].get<std::string>(), HasSubstr("files cannot be read here"));
}

TEST_F(Commanded, RolesMayWhatTheirRolesMay) {
  apply(kHere);
  const auto token_of = [&](const char* role) {
    return post("/v1/tokens", {{"name", role}, {"role", role}})["token"].get<std::string>();
  };
  const std::string viewer = token_of("viewer");
  const std::string operating = token_of("operator");
  const json off{
      {"changes", {{{"do", "set"}, {"kind", "client"}, {"name", "here"}, {"fields", {{"note", "x"}}}}}}};
  const json show{{"client", "here"}, {"do", "show"}};
  const auto status_with = [&](const std::string& token, const char* path, const json& body) {
    httplib::Client own("127.0.0.1", node.management);
    own.set_bearer_token_auth(token.c_str());
    const auto answer = body.is_null() ? own.Get(path) : own.Post(path, body.dump(), "application/json");
    return answer ? answer->status : 0;
  };
  EXPECT_EQ(status_with(viewer, "/v1/plan/objects?kind=client", nullptr), 200);
  EXPECT_EQ(status_with(viewer, "/metrics", nullptr), 200);
  EXPECT_EQ(status_with(viewer, "/v1/plan/change", off), 403);
  EXPECT_EQ(status_with(viewer, "/v1/audit", nullptr), 403);
  EXPECT_EQ(status_with(viewer, "/v1/plan/files?secrets=true", nullptr), 403);
  EXPECT_EQ(status_with(operating, "/v1/plan/change", off), 200);
  EXPECT_EQ(status_with(operating, "/v1/audit", nullptr), 200);
  EXPECT_EQ(status_with(operating, "/v1/plan/secret", show), 403);
  EXPECT_EQ(status_with(operating, "/v1/tokens", nullptr), 403);
  EXPECT_EQ(status_with("not a token", "/v1/node", nullptr), 401);
  EXPECT_EQ(post("/v1/plan/secret", show)["secret"], "laut");
  post("/v1/tokens/revoke", {{"name", "viewer"}});
  EXPECT_EQ(status_with(viewer, "/v1/node", nullptr), 401);
  std::vector<std::string> actions;
  const json audit = get("/v1/audit");
  for (const json& row : audit["audit"])
    actions.push_back(row["author"].get<std::string>() + " " + row["action"].get<std::string>());
  EXPECT_THAT(actions, testing::ElementsAre("local token revoke", "local secret show", "operator client set",
                                            "local token create", "local token create", "local plan apply"));
}

TEST_F(Commanded, EditsReplySetsAndFormsOfNamesAreChangedByCommands) {
  apply(kHere);
  const auto run = [&](std::vector<std::string> words) {
    words.insert(words.end(), {"--node", node.file()});
    const auto finished = client(words);
    EXPECT_EQ(finished.exit_code, 0) << words[0] << " " << words[1] << "\n" << finished.error;
    return finished.out;
  };
  run({"reply-set", "add", "aboard", "reply.Idle-Timeout=10m", "reply.Reply-Message=Welcome, {user}."});
  run({"access", "add", "all", "permit=true", "also=[\"aboard\"]"});
  run({"edit", "add", "badge", "at=received", "set.NAS-Identifier={client}"});
  run({"edit", "add", "greet", "at=replying", "when=code == Access-Accept", "add.Class={realm}"});
  run({"edit", "move", "greet", "--first"});
  run({"sign-in", "set", "name_forms=[\"realm/user\", \"user@realm\"]"});
  EXPECT_THAT(run({"edit", "list"}), HasSubstr("greet  replying  add Class           code == Access-Accept\n"
                                               "badge  received  set NAS-Identifier  always\n"));
  EXPECT_THAT(run({"reply-set", "list"}),
              HasSubstr("aboard     Idle-Timeout=10m Reply-Message=Welcome, {user}."));
  EXPECT_THAT(run({"user", "show", "tamu@reef.example"}),
              HasSubstr("# what is kept of the password proves: pap, ms-chap, ms-chap-v2, chap"));
  const auto asked = client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                             "reef.example/tamu", "--password", "ombak-3"});
  EXPECT_EQ(asked.exit_code, 0) << asked.out;
  EXPECT_THAT(asked.out, HasSubstr("\"Welcome, tamu.\""));
  EXPECT_THAT(asked.out, HasSubstr("0x726565662e6578616d706c65"));  // reef.example
  const auto wrong = client({"edit", "add", "x", "at=recieved", "remove=[\"Clas\"]", "--node", node.file()});
  EXPECT_EQ(wrong.exit_code, 1);
  EXPECT_THAT(wrong.error, HasSubstr("nearest: 'received'"));
  EXPECT_THAT(wrong.error, HasSubstr("nearest: 'Class'"));
}

TEST_F(Commanded, TheJournalTellsWhyAndKeepsNoPassword) {
  apply(kHere);
  const auto ask = [&](const char* password) {
    return client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                   "tamu@reef.example", "--password", password});
  };
  EXPECT_EQ(ask("ombak-3").exit_code, 0);
  EXPECT_EQ(ask("Ombak-3").exit_code, 1);
  json found;
  ASSERT_TRUE(support::eventually([&] {
    found = get("/v1/journal?user=tamu")["requests"];
    return found.size() == 2;
  }));
  EXPECT_EQ(found[0]["outcome"], "rejected");
  EXPECT_EQ(found[0]["reason"], "wrong password (it differs in letter case alone)");
  EXPECT_EQ(get("/v1/journal?outcome=accepted&client=here&since=10m")["requests"].size(), 1U);
  EXPECT_EQ(get("/v1/journal?text=letter%20case")["requests"].size(), 1U);
  const std::string number = std::to_string(found[1]["number"].get<int>());
  const auto shown = client({"journal", "show", number, "--node", node.file()});
  EXPECT_EQ(shown.exit_code, 0) << shown.error;
  EXPECT_THAT(shown.out, HasSubstr("realm table: 'reef.example' matches\n  password: right\n"));
  EXPECT_THAT(shown.out, HasSubstr("User-Password (not kept)"));
  EXPECT_THAT(shown.out, HasSubstr("Access-Accept sent"));
  get("/v1/journal?outcome=nonsense");
  EXPECT_EQ(status, 400);
  get("/v1/journal/entry?number=4711");
  EXPECT_EQ(status, 404);
  EXPECT_EQ(node.stop(), 0);
  for (const auto& file : std::filesystem::directory_iterator(node.path("data"))) {
    if (!file.path().filename().string().starts_with("journal")) continue;
    EXPECT_EQ(support::read_file(file.path()).find("mbak-3"), std::string::npos) << file.path();
  }
  node.start();  // the journal outlives the node
  EXPECT_EQ(get("/v1/journal")["requests"].size(), 2U);
}

TEST_F(Commanded, RejectedPasswordsAreShownToAdministratorsOnRecordForAWhile) {
  apply(kHere);
  const std::string operating =
      post("/v1/tokens", {{"name", "pier"}, {"role", "operator"}})["token"].get<std::string>();
  httplib::Client other("127.0.0.1", node.management);
  other.set_bearer_token_auth(operating.c_str());
  const json wish{{"user", "tamu@reef.example"}, {"for", "10m"}};
  EXPECT_EQ(other.Post("/v1/journal/unmask", wish.dump(), "application/json")->status, 403);
  EXPECT_EQ(other.Get("/v1/journal/unmask?user=tamu@reef.example")->status, 403);
  post("/v1/journal/unmask", {{"user", "tamu@reef.example"}, {"for", "2h"}});
  EXPECT_EQ(status, 400);
  post("/v1/journal/unmask", wish);
  EXPECT_EQ(status, 200);
  (void)client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user", "tamu@reef.example",
                "--password", "salah-1"});
  const json seen = get("/v1/journal/unmask?user=tamu@reef.example");
  ASSERT_EQ(seen["rejected"].size(), 1U);
  EXPECT_EQ(seen["rejected"][0]["password"], "salah-1");
  EXPECT_EQ(get("/v1/audit?action=password%20unmask")["audit"][0]["subject"], "user tamu@reef.example");
  post("/v1/journal/unmask", {{"user", "tamu@reef.example"}, {"for", "0s"}});
  get("/v1/journal/unmask?user=tamu@reef.example");
  EXPECT_EQ(status, 404);
  EXPECT_EQ(node.log().find("salah-1"), std::string::npos);
}

TEST_F(Commanded, FollowersSeeWhatTheyAskFor) {
  apply(kHere);
  const auto refused = client({"follow", "--node", node.file(), "--where", "relm == \"x\""});
  EXPECT_EQ(refused.exit_code, 2);
  EXPECT_THAT(refused.error,
              HasSubstr("where, column 1: 'relm' is no attribute and no fact; allowed: an attribute "
                        "or a fact; nearest: 'realm'"));
  support::Background follower({kClient, "follow", "--node", node.file(), "--json", "--count", "1", "--where",
                                "realm == \"reef.example\""},
                               node.path("followed"));
  ASSERT_TRUE(support::eventually([&] {
    for (const char* user : {"x@nowhere.example", "tamu@reef.example"}) {
      (void)client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user", user,
                    "--password", "ombak-3"});
    }
    return !support::read_file(node.path("followed")).empty();
  }));
  EXPECT_EQ(follower.wait(), 0);
  const json line = json::parse(support::read_file(node.path("followed")));
  EXPECT_EQ(line["user"], "tamu@reef.example");
  EXPECT_GT(line["number"].get<int>(), 0);
}

TEST_F(Commanded, NoRequestIsLostWhileThePlanChanges) {
  apply(kHere + many_clients(500, "before"));
  std::atomic<bool> going{true};
  std::atomic<int> asked{0};
  std::atomic<int> answered{0};
  std::thread devices([&] {
    const UdpPeer device;
    for (int id = 0; going; id = (id + 1) % 256) {
      const std::string authenticator = "auth" + std::to_string(100000000000 + asked);
      device.send(
          "127.0.0.1", node.access,
          second::access_request(1, id, authenticator, "laut", "ombak-3", {{1, "tamu@reef.example"}}));
      ++asked;
      const auto reply = device.receive(5s);
      answered += !reply.empty() && reply[0] == 2 ? 1 : 0;
    }
  });
  for (int i = 0; i < 4; ++i) {
    apply(kHere + many_clients(500, std::to_string(i)));
    EXPECT_EQ(status, 200);
  }
  going = false;
  devices.join();
  EXPECT_GT(asked, 0);
  EXPECT_EQ(asked, answered);
}

// Killed again and again while it applies: after each start the plan is the old one or the new one, whole.
TEST_F(Commanded, AKillInTheMiddleOfAnApplyLeavesTheOldOrTheNewRevision) {
  apply(kHere + many_clients(3000, "0"));
  for (int round = 1; round <= 6; ++round) {
    std::thread applying([&] {
      httplib::Client own("127.0.0.1", node.management);
      own.set_bearer_token_auth(node.token().substr(0, 64).c_str());
      json body;
      body["files"] =
          json::array({{{"name", "plan.toml"}, {"text", kHere + many_clients(3000, std::to_string(round))}}});
      (void)own.Post("/v1/plan/apply", body.dump(), "application/json");
    });
    std::this_thread::sleep_for(std::chrono::milliseconds(15 * round));  // anywhere in it
    node.kill();
    applying.join();
    node.start();
    const json objects = get("/v1/plan/objects?kind=client");
    ASSERT_EQ(objects["objects"].size(), 3001U);
    std::set<std::string> notes;
    for (const json& object : objects["objects"]) {
      if (object.contains("note")) notes.insert(object["note"]);
    }
    EXPECT_EQ(notes.size(), 1U) << "half of a plan after round " << round;
    EXPECT_TRUE(sign_in(round));
  }
}

TEST(PlanFolder, IsTheOnlySourceAndMakesRevisions) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  const auto refused = client({"client", "disable", "here", "--node", node.file()});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_THAT(refused.error, HasSubstr("node home takes its plan from the folder"));
  EXPECT_EQ(node.ask_node({"plan", "reload"})["changed"], false);
  node.plan(kHere + "enabled = false\n");
  node.signal(SIGHUP);
  EXPECT_TRUE(node.log_has("plan: revision 2 in force"));
  const json history = node.ask_node({"plan", "history"});
  EXPECT_EQ(history["revisions"][0]["author"], "SIGHUP");
  EXPECT_EQ(history["revisions"][1]["author"], "plan folder");
  node.stop();
  node.start();
  EXPECT_EQ(node.ask_node({"node", "status"})["plan_revision"], 2);
  EXPECT_EQ(client({"plan", "diff", node.path("plan").string(), "--node", node.file()}).exit_code, 0);
}

TEST(Management, OffTheMachineItNeedsTls) {
  TestNode node("hub", "", TestNode::Plan::by_commands);
  const std::string file = support::read_file(node.file());
  const std::string address = "127.0.0.1:" + std::to_string(node.management);
  support::write_file(node.file(), std::string(file).replace(file.find(address), 9, "0.0.0.0"));
  const auto refused = support::run({kServer, "--node", node.file()});
  EXPECT_EQ(refused.exit_code, 1);
  EXPECT_THAT(refused.error, HasSubstr("without TLS"));
}

TEST(Management, SpeaksTlsWithACertificate) {
  TestNode node("hub", "", TestNode::Plan::by_commands);
  const auto made = support::run({"/usr/bin/openssl", "req", "-x509", "-newkey", "ec", "-pkeyopt",
                                  "ec_paramgen_curve:prime256v1", "-nodes", "-days", "2", "-subj", "/CN=hub",
                                  "-addext", "subjectAltName=IP:127.0.0.1", "-keyout",
                                  node.path("key.pem").string(), "-out", node.path("cert.pem").string()});
  ASSERT_EQ(made.exit_code, 0) << made.error;
  support::write_file(node.file(),
                      support::read_file(node.file()) + "certificate = \"cert.pem\"\nkey = \"key.pem\"\n");
  node.start();
  EXPECT_EQ(node.ask_node({"node", "status"})["plan_revision"], 0);
  support::write_file(node.path("token"), node.token());
  const std::string url = "https://127.0.0.1:" + std::to_string(node.management);
  const auto trusted = client(
      {"node", "status", "--url", url, "--token-file", node.path("token"), "--ca", node.path("cert.pem")});
  EXPECT_EQ(trusted.exit_code, 0) << trusted.error;
  const auto stranger = client({"node", "status", "--url", url, "--token-file", node.path("token")});
  EXPECT_EQ(stranger.exit_code, 3);
  EXPECT_THAT(stranger.error, HasSubstr("its certificate does not verify"));
  EXPECT_TRUE(node.log_has("of the management interface: it expires at 20"));
  httplib::SSLClient watcher("127.0.0.1", node.management);
  watcher.set_ca_cert_path(node.path("cert.pem").c_str());
  watcher.set_bearer_token_auth(node.token().substr(0, 64).c_str());
  const auto metrics = watcher.Get("/metrics");
  ASSERT_TRUE(metrics);
  EXPECT_THAT(metrics->body, HasSubstr("\njembatan_certificate_expires_seconds 1"));
  httplib::Client plain("127.0.0.1", node.management);
  const auto answer = plain.Get("/healthz");
  EXPECT_TRUE(!answer || answer->status != 200);
}

TEST(Management, AKeyFileThatOthersMayReadIsRefused) {
  TestNode node("hub", "", TestNode::Plan::by_commands);
  support::write_file(node.path("data") / "node.key", std::string(64, 'a'));
  std::filesystem::permissions(node.path("data") / "node.key", std::filesystem::perms(0644));
  const auto refused = support::run({kServer, "--node", node.file()});
  EXPECT_EQ(refused.exit_code, 1);
  EXPECT_THAT(refused.error, HasSubstr("can be read by others; allowed: chmod 600"));
}

TEST(Import, NamesTheRowsItCannotTake) {
  TestNode node("hub", "", TestNode::Plan::by_commands);
  node.start();
  support::write_file(node.path("a.csv"),
                      "name,address,enabled\none,192.0.2.1,yes\none,192.0.2.2,yes\n,192.0.2.3,no\n");
  const auto twice = client({"client", "import", node.path("a.csv"), "--node", node.file()});
  EXPECT_EQ(twice.exit_code, 1);
  EXPECT_THAT(
      twice.error,
      HasSubstr(
          "refused: a.csv line 3: client 'one' stands in line 2 already\nrefused: a.csv line 4: no name\n"));
  support::write_file(node.path("b.csv"), "Host;IP\none;192.0.2.1\ntwo;192.0.2.999\n");
  const auto wrong = client(
      {"client", "import", node.path("b.csv"), "--map", "name=Host,address=IP", "--node", node.file()});
  EXPECT_EQ(wrong.exit_code, 1);
  EXPECT_THAT(wrong.error, HasSubstr("b.csv line 3:3:11: error: 'address'"));
  const auto column = client(
      {"client", "import", node.path("b.csv"), "--map", "name=Hots,address=IP", "--node", node.file()});
  EXPECT_THAT(column.error, HasSubstr("no column 'Hots'; there are: Host, IP; nearest: 'Host'"));
  EXPECT_EQ(node.ask_node({"node", "status"})["plan_revision"], 0);
}

TEST(Import, WhatWasExportedIsTakenBack) {
  TestNode node("hub", "", TestNode::Plan::by_commands);
  node.start();
  support::write_file(node.path("a.csv"),
                      "name,address,labels.place,note\none,192.0.2.1,north/pier-1,\"left, "
                      "\"\"aft\"\"\"\ntwo,192.0.2.0/24,south,\n");
  EXPECT_EQ(client({"client", "import", node.path("a.csv"), "--node", node.file()}).exit_code, 0);
  const auto plain = client({"client", "export", "--node", node.file()});
  EXPECT_EQ(plain.out,
            "name,address,labels.place,note\none,192.0.2.1,north/pier-1,\"left, "
            "\"\"aft\"\"\"\ntwo,192.0.2.0/24,south,\n");
  const auto with_secrets = client({"client", "export", "--secrets", "--node", node.file()});
  support::write_file(node.path("b.csv"), with_secrets.out);
  const auto again = client({"client", "import", node.path("b.csv"), "--node", node.file()});
  EXPECT_THAT(again.out, HasSubstr("that is the plan already: revision 1 stays in force")) << again.error;
}

}  // namespace
}  // namespace jembatan::blackbox
