// What an operator sees of the servers that a node forwards to.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::HasSubstr;

std::string server_of(const std::string& name, const TestNode& node, int weight) {
  return "[[group.server]]\nname = \"" + name +
         "\"\naddress = \"127.0.0.1\"\naccess_port = " + std::to_string(node.access) +
         "\nsecret = \"laut\"\nweight = " + std::to_string(weight) + "\n";
}

class TwoHomes : public testing::Test {
 protected:
  TwoHomes() {
    for (TestNode* home : {&first, &second_}) {
      home->plan(kHere);
      home->start();
    }
    hub.plan(client_here("laut") +
             "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\naccounting = [\"here\"]\n" +
             "[[group]]\nname = \"homes\"\nanswer_within = \"1s\"\nattempts = 1\ndown_after = 1\n" +
             server_of("one", first, 75) + server_of("two", second_, 25));
    hub.start();
  }
  int sign_in() const {
    return client({"ask", "access", "--to", hub.access_to(), "--secret", "laut", "--user",
                   "tamu@reef.example", "--password", "ombak-3"})
        .exit_code;
  }
  json server(std::size_t place) const { return hub.ask_node({"server", "list"}).at("servers").at(place); }
  TestNode first{"first"};
  TestNode second_{"second"};
  TestNode hub{"hub"};
};

TEST_F(TwoHomes, SharesAndStatesAreSeen) {
  for (int i = 0; i < 8; ++i) EXPECT_EQ(sign_in(), 0);
  EXPECT_EQ(server(0)["requests"], 6);
  EXPECT_EQ(server(0)["percent"], 75.0);
  EXPECT_EQ(server(1)["percent"], 25.0);
  EXPECT_EQ(server(0)["answers"], 6);
  EXPECT_EQ(server(0)["state"], "up");
  first.kill();
  for (int i = 0; i < 4; ++i) EXPECT_EQ(sign_in(), 0);  // nobody is refused
  const json down = server(0);
  EXPECT_EQ(down["state"], "down");
  EXPECT_THAT(down["why"].get<std::string>(), HasSubstr("1 attempt in a row unanswered, tried again in "));
  EXPECT_TRUE(down["since"].is_string());
  EXPECT_EQ(down["wanted_percent"], 0.0);
  EXPECT_EQ(server(1)["wanted_percent"], 100.0);
  const auto table = client({"server", "list", "--node", hub.file()});
  EXPECT_THAT(table.out, HasSubstr("homes/one"));
  EXPECT_THAT(table.out, HasSubstr("down"));
}

TEST_F(TwoHomes, ManyRequestsAreSentAndTheirAnswersCounted) {
  const auto load = [&](std::vector<std::string> more) {
    std::vector<std::string> words{
        "ask",        "load",    "--node", hub.file(), "--client", "here", "--user", "tamu@reef.example",
        "--password", "ombak-3", "--for",  "500ms",    "--json"};
    words.insert(words.end(), more.begin(), more.end());
    return client(words);
  };
  const auto open = load({"--rate", "200", "--method", "pap", "--method", "chap"});
  EXPECT_EQ(open.exit_code, 0) << open.error;
  const json body = json::parse(open.out);
  EXPECT_EQ(body.at("requests"), 100);  // all that were due, however late the machine let them go
  EXPECT_EQ(body.at("outcomes").at("Access-Accept"), body.at("requests"));
  const auto requests = body.at("requests").get<double>();
  EXPECT_NEAR(body.at("servers").at("access").at("homes/one").get<double>(), requests * 0.75, 1);
  EXPECT_GT(body.at("answered_within_us").at("p99").get<int>(), 0);
  const json closed = json::parse(load({"--window", "4"}).out);
  EXPECT_GT(closed.at("requests").get<int>(), 4);
  first.kill();
  second_.kill();
  const auto silent = load({"--rate", "20", "--wait", "100ms"});
  EXPECT_EQ(silent.exit_code, 1);
  EXPECT_EQ(json::parse(silent.out).at("outcomes").at("no answer"), json::parse(silent.out).at("requests"));
  EXPECT_EQ(load({"--rate", "5", "--window", "5"}).exit_code, 2);
  support::write_file(hub.path("people.csv"),
                      "user,password\ntamu@reef.example,ombak-3\nsari@reef.example,x\n");
  EXPECT_EQ(client({"ask", "load", "--to", hub.access_to(), "--secret", "laut", "--users",
                    hub.path("people.csv").string(), "--for", "100ms", "--wait", "50ms"})
                .exit_code,
            1);
}

TEST_F(TwoHomes, ANodeChecksAServerAndSaysWhatCameBack) {
  json good = hub.ask_node({"server", "check", "homes/one"});
  EXPECT_EQ(good.at("steps").at(0)["code"], "Access-Accept");
  support::write_file(hub.path("password"), "wrong");
  const auto sign_in = client({"server", "check", "homes/one", "--user", "tamu@reef.example",
                               "--password-file", hub.path("password").string(), "--node", hub.file()});
  EXPECT_EQ(sign_in.exit_code, 0);  // it lives
  EXPECT_THAT(sign_in.out, HasSubstr("sign-in of tamu@reef.example: answered (Access-Reject)"));
  EXPECT_THAT(sign_in.out, HasSubstr("refuses this user"));
  first.kill();
  const auto dead = client({"server", "check", "homes/one", "--node", hub.file()});
  EXPECT_EQ(dead.exit_code, 1);
  EXPECT_THAT(dead.out, HasSubstr("no genuine answer"));
  EXPECT_EQ(client({"server", "check", "homes/ome", "--node", hub.file()}).exit_code, 2);
  EXPECT_THAT(client({"group", "status", "homes", "--node", hub.file()}).out, HasSubstr("127.0.0.1:"));
  EXPECT_THAT(client({"group", "status", "home", "--node", hub.file()}).error, HasSubstr("nearest: 'homes'"));
}

TEST_F(TwoHomes, AProbeBringsAServerBackWithoutAnybodysRequest) {
  hub.plan(client_here("laut") +
           "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\naccounting = [\"here\"]\n" +
           "[[group]]\nname = \"homes\"\nanswer_within = \"1s\"\nattempts = 1\ndown_after = 1\n" +
           "try_again_every = \"1s\"\nprobe = \"status-server\"\n" + server_of("one", first, 75) +
           server_of("two", second_, 25));
  EXPECT_EQ(client({"plan", "reload", "--node", hub.file()}).exit_code, 0);
  first.kill();
  EXPECT_TRUE(support::eventually([&] { return server(0)["state"] == "down"; }));
  first.start();
  EXPECT_TRUE(support::eventually([&] { return server(0)["state"] == "up"; }));
  EXPECT_EQ(server(0)["requests"], 0);
}

// The home knows the second address alone, and the hub the home's name alone.
TEST(Servers, AreReachedByTheirNameAndFromTheAddressThatTheyKnow) {
  TestNode home("home");
  std::string here = kHere;
  here.replace(here.find("127.0.0.1"), 9, "127.0.0.7");
  home.plan(here);
  home.start();
  TestNode hub("hub", "", TestNode::Plan::by_commands);
  hub.start();
  support::TemporaryFolder folder;
  const auto plan = [&](const std::string& more) {
    support::write_file(folder.path() / "plan.toml",
                        client_here("laut") +
                            "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\n" +
                            "[[group]]\nname = \"homes\"\nanswer_within = \"2s\"\n"
                            "[[group.server]]\nname = \"one\"\naccess_port = " +
                            std::to_string(home.access) + "\nsecret = \"laut\"\n" + more);
    return client({"plan", "apply", folder.path().string(), "--force", "--node", hub.file()});
  };
  const auto sign_in = [&] {
    return client({"ask", "access", "--to", hub.access_to(), "--secret", "laut", "--user",
                   "tamu@reef.example", "--password", "ombak-3", "--wait", "6s", "--tries", "1"})
        .exit_code;
  };
  ASSERT_EQ(plan("address = \"127.0.0.1\"\nsource = \"127.0.0.7\"\n").exit_code, 0);
  EXPECT_EQ(sign_in(), 0);
  ASSERT_EQ(plan("address = \"127.0.0.1\"\n").exit_code, 0);
  EXPECT_NE(sign_in(), 0);
  home.plan(kHere);
  ASSERT_EQ(client({"plan", "reload", "--node", home.file()}).exit_code, 0);
  const auto named = plan("address = \"localhost\"\n");
  ASSERT_EQ(named.exit_code, 0) << named.error;
  EXPECT_THAT(named.out, HasSubstr("host localhost has the address"));
  EXPECT_EQ(sign_in(), 0);
  EXPECT_EQ(hub.stop(), 0);
  hub.start();
  EXPECT_EQ(sign_in(), 0);
  const auto list = hub.ask_node({"server", "list"}).at("servers");
  EXPECT_THAT(list.at(0).at("server").get<std::string>(), testing::StartsWith("one"));
  EXPECT_EQ(list.at(0).at("address"), "127.0.0.1:" + std::to_string(home.access));
}

// The new home does not know the deck yet: its answers are compared and thrown away.
TEST(Mirror, WhatTheNewHomeSaysIsComparedAndReachesNobody) {
  TestNode old_home("old");
  TestNode new_home("new");
  old_home.plan(kHere + "[[access]]\nname = \"all\"\npermit = true\nreply = { Filter-Id = \"crew\" }\n");
  new_home.plan(kHere + "[[access]]\nname = \"all\"\npermit = true\nreply = { Filter-Id = \"deck\" }\n");
  TestNode hub("hub");
  const auto plan = [&](const std::string& mirror) {
    hub.plan(client_here("laut") +
             "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\n[[group]]\nname = \"homes\"\n" +
             mirror + server_of("one", old_home, 1) + "[[group]]\nname = \"next\"\nanswer_within = \"2s\"\n" +
             server_of("two", new_home, 1));
  };
  plan("mirror = { to = \"group:next\", compare = [\"Filter-Id\"] }\n");
  old_home.start();
  new_home.start();
  hub.start();
  const auto sign_in = [&](const std::string& password) {
    return client({"ask", "access", "--to", hub.access_to(), "--secret", "laut", "--user",
                   "tamu@reef.example", "--password", password});
  };
  const auto report = [&](const std::string& name) {
    return client({"group", "mirror", name, "--node", hub.file()});
  };
  EXPECT_THAT(report("homes").out, HasSubstr("0 answers compared, 0 the same, 0 otherwise"));
  EXPECT_THAT(sign_in("ombak-3").out, HasSubstr("crew"));
  EXPECT_EQ(sign_in("wrong").exit_code, 1);
  EXPECT_TRUE(support::eventually([&] {
    return report("next").out.find("2 answers compared, 1 the same, 1 otherwise") != std::string::npos;
  })) << report("next").out;
  EXPECT_EQ(report("next").exit_code, 1);
  EXPECT_THAT(report("homes").out,
              HasSubstr("tamu@reef.example: Filter-Id: homes/one says \"crew\", next/two \"deck\""));
  EXPECT_THAT(report("elsewhere").error, HasSubstr("the node mirrors: group homes to next"));
  const auto found = client({"journal", "search", "--outcome", "mirror-differs", "--node", hub.file()});
  EXPECT_THAT(found.out, HasSubstr("mirror-differs"));
  EXPECT_THAT(client({"journal", "show", "2", "--node", hub.file()}).out, HasSubstr("next/two \"deck\""));
  EXPECT_THAT(
      client({"explain", "--client", "here", "--user", "tamu@reef.example", "--node", hub.file()}).out,
      HasSubstr("mirror: it also goes to group 'next'"));
  new_home.kill();
  EXPECT_THAT(sign_in("ombak-3").out, HasSubstr("crew"));
  EXPECT_TRUE(support::eventually(
      [&] { return report("next").out.find("1 copies that next did not answer") != std::string::npos; }));
  plan("");
  ASSERT_EQ(client({"plan", "reload", "--node", hub.file()}).exit_code, 0);
  const auto before = report("next").out;
  EXPECT_EQ(sign_in("ombak-3").exit_code, 0);
  EXPECT_EQ(report("next").out, before);
  EXPECT_THAT(hub.log(), HasSubstr("mirror-differs packet=Access-Request client=here"));
}

}  // namespace
}  // namespace jembatan::blackbox
