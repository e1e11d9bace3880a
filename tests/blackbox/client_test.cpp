// The client: usage, exit codes, what it hides, the lab.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"
#include "support/second_encoder.h"

namespace jembatan::blackbox {
namespace {

using namespace std::chrono_literals;
using support::UdpPeer;
using testing::HasSubstr;
using testing::Not;

TEST(Usage, WrongWordsEndWithTwoAndAreExplained) {
  EXPECT_EQ(client({}).exit_code, 2);
  EXPECT_EQ(client({"ask"}).exit_code, 2);
  EXPECT_EQ(client({"aks", "access"}).exit_code, 2);
  EXPECT_EQ(client({"ask", "access"}).exit_code, 2);
  const auto no_server = client({"ask", "access", "--user", "a", "--password", "b", "--secret", "c"});
  EXPECT_EQ(no_server.exit_code, 2);
  EXPECT_THAT(no_server.error, HasSubstr("where to? Give --to HOST"));
  const auto wrong_attribute = client({"ask", "access", "--to", "127.0.0.1", "--user", "a", "--password", "b",
                                       "--secret", "c", "NAS-Prot=3"});
  EXPECT_EQ(wrong_attribute.exit_code, 2);
  EXPECT_THAT(wrong_attribute.error, HasSubstr("nearest: 'NAS-Port'"));
  const auto clear = client({"ask", "access", "--to", "127.0.0.1", "--user", "a", "--password", "b",
                             "--secret", "c", "User-Password=x"});
  EXPECT_THAT(clear.error, HasSubstr("give it with --password-file"));
  const auto no_node = client({"session", "list"});
  EXPECT_EQ(no_node.exit_code, 2);
  EXPECT_THAT(no_node.error, HasSubstr("which node? Name it with --node FILE"));
}

TEST(Usage, EveryCommandHasHelpWithAnExample) {
  const std::vector<std::vector<std::string>> commands{
      {"ask", "access"},        {"ask", "accounting"}, {"ask", "status"}, {"follow"},
      {"plan", "check"},        {"plan", "reload"},    {"client", "add"}, {"session", "list"},
      {"accounting", "search"}, {"node", "status"},    {"lab", "up"},     {"lab", "down"},
      {"lab", "status"}};
  for (auto words : commands) {
    std::string name;
    for (const std::string& word : words) name += " " + word;
    words.emplace_back("--help");
    const auto help = client(words);
    EXPECT_EQ(help.exit_code, 0);
    EXPECT_THAT(help.out, HasSubstr("Example:\n  jembatan" + name));
  }
}

TEST(Ask, SaysThatNobodyListens) {
  const auto asked =
      client({"ask", "status", "--to", "127.0.0.1:" + std::to_string(support::free_port()), "--secret", "x"});
  EXPECT_EQ(asked.exit_code, 3);
  EXPECT_THAT(asked.out, HasSubstr("nobody listens on 127.0.0.1:"));
}

TEST(Ask, AReplyUnderAnotherSecretIsCalledSo) {
  TestNode node("home");
  node.plan(
      "[[client]]\nname = \"here\"\naddress = \"127.0.0.1\"\nsecret = \"one\"\nmessage_authenticator = "
      "\"if-present\"\n");
  node.start();
  const auto asked = client({"ask", "access", "--to", node.access_to(), "--secret", "two", "--user", "a",
                             "--password", "b", "--unsigned", "--tries", "1", "--wait", "2s"});
  EXPECT_EQ(asked.exit_code, 1);
  EXPECT_THAT(
      asked.out,
      HasSubstr(
          "a reply came, but its Response Authenticator does not verify:\n  the shared secret differs"));
}

TEST(Ask, SecretsAndPasswordsDoNotStandInTheListOfProcesses) {
  const UdpPeer silent;
  const support::TemporaryFolder folder;
  support::Background asking(
      {kClient, "ask", "access", "--to", "127.0.0.1:" + std::to_string(silent.port()), "--secret",
       "laut-dalam", "--user", "tamu", "--password=ombak-besar", "--wait", "20s"},
      folder.path() / "log");
  EXPECT_FALSE(silent.receive(10000ms).empty());
  const std::string command = support::read_file("/proc/" + std::to_string(asking.process()) + "/cmdline");
  EXPECT_THAT(command, HasSubstr("--secret"));
  EXPECT_THAT(command, Not(HasSubstr("laut-dalam")));
  EXPECT_THAT(command, Not(HasSubstr("ombak-besar")));
}

TEST(Ask, ReadsPasswordAndSecretFromFilesAndPrintsJson) {
  TestNode node("home");
  node.plan(client_here("laut") +
            "[[realm]]\nname = \"reef.example\"\nhandle = \"here\"\n[[user]]\nname = \"tamu@reef.example\"\n"
            "password = { clear = \"ombak-3\" }\nreply = { vlan = 40 }\n");
  node.start();
  support::write_file(node.path("secret"), "laut\n");
  support::write_file(node.path("password"), "ombak-3\n");
  const auto asked = client({"ask", "access", "--to", node.access_to(), "--secret-file",
                             node.path("secret").string(), "--user", "tamu@reef.example", "--password-file",
                             node.path("password").string(), "--json", "NAS-Port-Type=Virtual"});
  EXPECT_EQ(asked.exit_code, 0) << asked.out << asked.error;
  const auto body = nlohmann::json::parse(asked.out);
  EXPECT_EQ(body.at("reply").at("code"), "Access-Accept");
  EXPECT_EQ(body.at("genuine"), true);
  EXPECT_THAT(body.at("request").dump(), HasSubstr(R"({"name":"NAS-Port-Type","value":"Virtual"})"));
  EXPECT_THAT(asked.out, Not(HasSubstr("ombak-3")));
}

TEST(PlanCheck, PrintsProblemsAndEndsWithOne) {
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "a.toml", "[[user]]\nname = \"a\"\npasword = { clear = \"x\" }\n");
  const auto checked = client({"plan", "check", folder.path().string()});
  EXPECT_EQ(checked.exit_code, 1);
  EXPECT_EQ(checked.out,
            "a.toml:1:1: error: 'password' is missing in user 'a'\n"
            "    1 | [[user]]\n"
            "      | ^\n"
            "   allowed: { hash = \"$y$…\" } (crypt(5)) or { clear = \"…\" }\n"
            "a.toml:3:1: error: unknown key 'pasword' in user 'a'\n"
            "    3 | pasword = ********\n"
            "      | ^^^^^^^\n"
            "   allowed: name, password, enabled, reply; nearest: 'password'\n"
            "2 errors, 0 advice\n");
}

TEST(PlanCheck, TheDemoPlansAreFree) {
  for (const char* node : {"edge", "hub", "reef-1"}) {
    const auto folder = std::filesystem::path(JEMBATAN_SOURCE_DIR) / "plans/demo" / node / "plan";
    const auto checked = client({"plan", "check", folder.string()});
    EXPECT_EQ(checked.exit_code, 0) << checked.out;
    EXPECT_THAT(checked.out, HasSubstr("0 errors, 0 advice: "));
  }
}

TEST(Lab, ComesUpCarriesASignInAndGoesDown) {
  const support::TemporaryFolder folder;
  const std::vector<std::string> environment{"JEMBATAN_LAB=" + folder.path().string()};
  const auto up = client({"lab", "up", "--free-ports"}, environment);
  ASSERT_EQ(up.exit_code, 0) << up.error;
  const auto asked =
      client({"ask", "access", "--lab", "edge", "--user", "sari@reef.example", "--password", "laut-biru-7"},
             environment);
  EXPECT_EQ(asked.exit_code, 0) << asked.out << asked.error;
  EXPECT_THAT(asked.out, HasSubstr("Tunnel-Private-Group-ID  \"30\""));
  EXPECT_EQ(
      client({"ask", "access", "--lab", "edge", "--user", "budi", "--password", "dermaga-2"}, environment)
          .exit_code,
      0);
  EXPECT_EQ(
      client({"ask", "access", "--lab", "reef-2", "--user", "tamu@reef.example", "--password", "ombak-3"},
             environment)
          .exit_code,
      0);
  EXPECT_EQ(client({"lab", "up", "--free-ports"}, environment).exit_code, 0);  // again: nothing happens
  const auto unknown = client({"follow", "--lab", "reef-3"}, environment);
  EXPECT_THAT(unknown.error, HasSubstr("no node 'reef-3' in the lab; nodes: edge, hub, reef-1, reef-2"));
  EXPECT_THAT(client({"lab", "down"}, environment).out, HasSubstr("4 nodes stopped"));
  EXPECT_EQ(client({"session", "list", "--lab", "hub"}, environment).exit_code, 3);
  EXPECT_THAT(client({"lab", "status"}, environment).out, HasSubstr("down"));
}

}  // namespace
}  // namespace jembatan::blackbox
