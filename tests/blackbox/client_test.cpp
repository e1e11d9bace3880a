// The client: usage, exit codes, what it hides, the lab.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <regex>
#include <thread>

#include "blackbox/chain.h"
#include "support/second_encoder.h"
#include "wire/authenticator.h"
#include "wire/builder.h"
#include "wire/hidden.h"

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
  EXPECT_THAT(no_server.error, HasSubstr("whom? One of --to HOST"));
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
  const std::vector<std::vector<std::string>> commands{{"ask", "access"},
                                                       {"ask", "accounting"},
                                                       {"ask", "status"},
                                                       {"follow"},
                                                       {"plan", "check"},
                                                       {"plan", "reload"},
                                                       {"client", "add"},
                                                       {"session", "list"},
                                                       {"accounting", "search"},
                                                       {"node", "status"},
                                                       {"dictionary", "list"},
                                                       {"dictionary", "find"},
                                                       {"dictionary", "show"},
                                                       {"dictionary", "check"},
                                                       {"dictionary", "import"},
                                                       {"decode"},
                                                       {"capture"},
                                                       {"lab", "up"},
                                                       {"lab", "down"},
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
  UdpPeer silent;
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

// A server that wants two words more, each with the State that it gave last.
void ask_for_words(UdpPeer& server) {
  const wire::SharedSecret secret{Secret("laut")};
  for (const char* word : {"ombak-3", "satu", "dua"}) {
    const auto datagram = server.receive(10000ms);
    const auto request = *wire::PacketView::parse(datagram);
    const auto typed = wire::reveal_password(request.find(wire::AttributeType::user_password)->value,
                                             request.authenticator(), secret);
    const bool first = word == std::string("ombak-3");
    const auto state = wire::text_in(request.find(wire::AttributeType::state));
    const bool right = text_of(*typed) == word && state == (first ? "" : "before " + std::string(word));
    const bool last = word == std::string("dua");
    const auto code = !right ? wire::Code::access_reject
                      : last ? wire::Code::access_accept
                             : wire::Code::access_challenge;
    wire::PacketBuilder reply(code, request.identifier(), request.authenticator());
    (void)reply.add_message_authenticator();
    if (right && !last) {
      (void)reply.add(wire::AttributeType::reply_message, std::string_view("the next word?"));
      (void)reply.add(wire::AttributeType::state, std::string_view(first ? "before satu" : "before dua"));
    }
    wire::sign_response(reply.finish(), request.authenticator(), secret);
    const auto octets = reply.finish();
    server.send("127.0.0.1", server.from(), {octets.begin(), octets.end()});
  }
}

TEST(Ask, AnswersChallengesInTheirOrder) {  // RFC 2865 §4.4
  UdpPeer server;
  const std::vector<std::string> words{"ask",
                                       "access",
                                       "--to",
                                       "127.0.0.1:" + std::to_string(server.port()),
                                       "--secret",
                                       "laut",
                                       "--user",
                                       "sari",
                                       "--password=ombak-3",
                                       "--answer=satu"};
  std::thread serving([&] { ask_for_words(server); });
  auto all = words;
  all.emplace_back("--answer=dua");
  const auto right = client(all);
  serving.join();
  EXPECT_EQ(right.exit_code, 0) << right.out << right.error;
  EXPECT_THAT(right.out, HasSubstr("the answer to its challenge"));
  EXPECT_THAT(right.out, HasSubstr("Reply-Message          \"the next word?\""));
  EXPECT_THAT(right.out, HasSubstr("\naccepted; the reply is genuine"));

  std::thread again([&] { ask_for_words(server); });
  all = words;
  all.emplace_back("--answer=tiga");
  all.emplace_back("--json");
  const auto wrong = nlohmann::json::parse(client(all).out);
  again.join();
  EXPECT_EQ(wrong["rounds_before"].size(), 2U);
  EXPECT_THAT(wrong["verdict"], HasSubstr("rejected"));
}

TEST(Ask, WithoutAnAnswerAChallengeIsTheEnd) {
  UdpPeer server;
  std::thread serving([&] { ask_for_words(server); });
  const auto asked = client({"ask", "access", "--to", "127.0.0.1:" + std::to_string(server.port()),
                             "--secret", "laut", "--user", "sari", "--password=ombak-3"});
  EXPECT_EQ(asked.exit_code, 1);
  EXPECT_THAT(asked.out, HasSubstr("challenged: the server wants to know more (--answer TEXT)"));
  for (int i = 0; i < 2; ++i)  // so that the server comes to its end
    (void)client({"ask", "access", "--to", "127.0.0.1:" + std::to_string(server.port()), "--secret", "laut",
                  "--user", "sari", "--password=x"});
  serving.join();
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
  EXPECT_EQ(
      checked.out,
      "a.toml:1:1: error: 'password' is missing in user 'a'\n"
      "    1 | [[user]]\n"
      "      | ^\n"
      "   allowed: { hash = \"$y$…\" } (crypt(5)), { clear = \"…\" } or { nt = \"32 hexadecimal digits\" }\n"
      "a.toml:3:1: error: unknown key 'pasword' in user 'a'\n"
      "    3 | pasword = ********\n"
      "      | ^^^^^^^\n"
      "   allowed: name, password, enabled, valid_from, valid_until, groups, clients, reply; nearest: "
      "'password'\n"
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

TEST(Dictionary, ShowsFindsAndChecks) {
  const auto show = client({"dictionary", "show", "Tunnel-Private-Group-ID"});
  EXPECT_EQ(show.exit_code, 0);
  EXPECT_THAT(show.out, HasSubstr("type     text, tagged\n"));
  EXPECT_THAT(show.out, HasSubstr("allowed  Access-Request 0+, Access-Accept 0+, Access-Reject 0,"));
  EXPECT_THAT(client({"dictionary", "find", "prefix"}).out, HasSubstr("Delegated-IPv6-Prefix"));
  EXPECT_THAT(client({"dictionary", "show", "26.311.16"}).out, HasSubstr("MS-MPPE-Send-Key"));
  EXPECT_THAT(client({"dictionary", "show", "Tunel-Type"}).error, HasSubstr("nearest: 'Tunnel-Type'"));
  EXPECT_EQ(client({"dictionary", "show", "26.1.1"}).exit_code, 1);
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "a.toml",
                      "attribute = [\n  { number = 1, name = \"Mine\", type = \"text\" },\n]\n");
  const auto checked = client({"dictionary", "check", folder.path().string()});
  EXPECT_EQ(checked.exit_code, 1);
  EXPECT_THAT(
      checked.out,
      HasSubstr("a.toml:2:3: error: number 1 of 'Mine' belongs to 'User-Name' (rfc2865.toml:4) already"));
}

TEST(Dictionary, ImportsTheRegistrysCsv) {
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "r.csv",
                      "Value,Description,Data Type,Reference\n1,User-Name,text,[RFC2865]\n17,Unassigned,,\n"
                      "200,\"Sea State, \"\"now\"\"\",integer,\"[RFC9999]\n[RFC9998]\"\n192-223,Experimental "
                      "Use,,[RFC3575]\n");
  const auto imported = client({"dictionary", "import", (folder.path() / "r.csv").string()});
  EXPECT_EQ(imported.exit_code, 0) << imported.error;
  EXPECT_THAT(
      imported.out,
      HasSubstr(
          R"({ number = "200", name = "Sea-State---now-", type = "integer", source = "[RFC9999] [RFC9998]" })"));
  EXPECT_THAT(
      imported.error,
      HasSubstr("2 attributes, 1 of them in the standard catalogue already (left out), 2 rows passed over"));
  support::write_file(folder.path() / "d" / "r.toml", imported.out);
  EXPECT_EQ(client({"dictionary", "check", (folder.path() / "d").string()}).exit_code, 0);
  support::write_file(folder.path() / "bad.csv",
                      "Value,Description,Data Type,Reference\n200,X,intger,[R]\nx,Y,text,[R]\n1,2\n");
  const auto bad = client({"dictionary", "import", (folder.path() / "bad.csv").string()});
  EXPECT_EQ(bad.exit_code, 1);
  EXPECT_THAT(bad.error, HasSubstr("row 2: data type 'intger' is not one of RFC 8044; nearest: 'integer'"));
  EXPECT_THAT(bad.error, HasSubstr("row 3: value 'x' is no number or range of numbers"));
  EXPECT_THAT(bad.error, HasSubstr("row 4: 2 columns, allowed 4 or more"));
}

TEST(Decode, ExplainsOctetsNamesHiddenValuesAndAuthenticators) {  // RFC 2865 §7.1
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "secret", "xyzzy5461\n");
  const std::string secret = (folder.path() / "secret").string();
  const std::string request =
      "010000380f403f9473978057bd83d5cb98f4227a01066e656d6f02120dbe708d93d413ce3196e43f782a0aee0406c0a8011005"
      "0600000003";
  const std::string accept = "0200002686fe220e7624ba2a1005f6bf9b55e0b20606000000010f06000000000e06c0a80103";
  const auto open = client({"decode", "--secret-file", secret, request});
  EXPECT_EQ(open.exit_code, 0) << open.error;
  EXPECT_THAT(open.out, HasSubstr("26-43   User-Password"));
  EXPECT_THAT(open.out, HasSubstr("\"arctangent\""));
  EXPECT_THAT(open.out, HasSubstr("no Message-Authenticator"));
  const auto closed = client({"decode", request});
  EXPECT_THAT(closed.out, HasSubstr("(hidden, 16 octets)"));
  EXPECT_THAT(client({"decode", "--secret-file", secret, "--request", request, accept}).out,
              HasSubstr("Response Authenticator right"));
  support::write_file(folder.path() / "secret", "other");
  const auto wrong = client({"decode", "--secret-file", secret, "--request", request, accept});
  EXPECT_THAT(wrong.out, HasSubstr("Response Authenticator WRONG"));
  EXPECT_THAT(client({"decode", "--secret-file", secret, request}).out,
              HasSubstr("(unreadable with this secret)"));
  const auto reject = client({"decode",
                              "0301001a0000000000000000000000000000000051043330"
                              "1b02"});
  EXPECT_THAT(reject.out,
              HasSubstr("advice: Tunnel-Private-Group-ID must not stand in an Access-Reject (RFC 2868)"));
  EXPECT_EQ(client({"decode", "0100"}).exit_code, 1);
  EXPECT_EQ(client({"decode", "xyz"}).exit_code, 2);
}

// Written by an independent program from RFC 2865, 2868, 3579 and 6929; the secret is "xyzzy5461".
TEST(Decode, ExplainsHiddenTaggedVendorExtendedAndConcatAttributes) {
  const std::string packet =
      "012a00bd0f403f9473978057bd83d5cb98f4227a50122a2dd72e3b495cde12b2a5899ec7369401137361726940"
      "726565662e6578616d706c65021200ad668ddfd81dd92acfd33f782a0aee3d060000001340060100000d510501"
      "333045150181024d846d078cd0c84fa90b71cd94fda0191a2000007ed901086b6572617075040e01060000000c"
      "0206000000020904cafef1070100000001f50804806c616e67f50704006b61684f060201000c4f090173617269"
      "40720107616761696e";
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "secret", "xyzzy5461");
  const auto decoded =
      client({"decode", "--secret-file", (folder.path() / "secret").string(), "--dictionary",
              std::string(JEMBATAN_SOURCE_DIR) + "/plans/demo/hub/plan/dictionaries", packet});
  EXPECT_EQ(decoded.exit_code, 0) << decoded.error;
  for (const char* line :
       {"User-Password            \"laut-biru-7\"", "Tunnel-Private-Group-ID[1]  \"30\"",
        "Tunnel-Password[1]        \"jalan\"", "129-134          Strait-Berth-Number    12",
        "135-140          Strait-Berth-Side      Starboard", "26.32473.9               0xcafe",
        "Frag-Status              Fragmentation-Supported",
        "152-159 160-166  245.4                      0x6c616e676b6168", "Message-Authenticator right",
        "advice: User-Name stands 2 times in an Access-Request"}) {
    EXPECT_THAT(std::regex_replace(decoded.out, std::regex(" +"), " "),
                HasSubstr(std::regex_replace(line, std::regex(" +"), " ")));
  }
}

TEST(Decode, ReadsACaptureFileAndMatchesRepliesWithRequests) {
  // pcap, raw IP: a request from 192.0.2.1:5000 to 192.0.2.2:1812, and its reply.
  const auto number32 = [](unsigned value) {
    std::string out;
    for (int i = 0; i < 4; ++i) out.push_back(static_cast<char>(value >> (8 * i)));
    return out;
  };
  const auto frame = [&](const std::string& payload, char from, char to, int source, int target) {
    const auto word = [](std::size_t value) {
      return std::string{static_cast<char>(value >> 8), static_cast<char>(value)};
    };
    std::string ip =
        std::string("\x45\0", 2) + word(28 + payload.size()) + std::string("\0\0\0\0\x40\x11\0\0", 8);
    ip += std::string{'\xC0', '\0', '\x02', from} + std::string{'\xC0', '\0', '\x02', to};
    ip += word(static_cast<std::size_t>(source)) + word(static_cast<std::size_t>(target)) +
          word(8 + payload.size()) + std::string(2, '\0') + payload;
    return number32(1790000000) + number32(0) + number32(static_cast<unsigned>(ip.size())) +
           number32(static_cast<unsigned>(ip.size())) + ip;
  };
  const auto request =
      second::access_request(1, 7, "0123456789abcdef", "laut", "ombak-3", {{1, "tamu@reef.example"}});
  second::Bytes reply{3, 7, 0, 20};
  second::Bytes digested = reply;
  digested.insert(digested.end(), request.begin() + 4, request.begin() + 20);
  for (const char c : std::string("laut")) digested.push_back(static_cast<unsigned char>(c));
  const auto digest = second::md5(digested);
  reply.insert(reply.end(), digest.begin(), digest.end());
  const support::TemporaryFolder folder;
  support::write_file(folder.path() / "secret", "laut");
  support::write_file(folder.path() / "c.pcap",
                      number32(0xA1B2C3D4) + std::string("\x02\0\x04\0", 4) + number32(0) + number32(0) +
                          number32(65535) + number32(101) +
                          frame(std::string(request.begin(), request.end()), 1, 2, 5000, 1812) +
                          frame(std::string(reply.begin(), reply.end()), 2, 1, 1812, 5000) +
                          frame("no packet", 2, 1, 53, 5000));
  const auto decoded = client({"decode", "--capture", (folder.path() / "c.pcap").string(), "--secret-file",
                               (folder.path() / "secret").string()});
  EXPECT_EQ(decoded.exit_code, 0) << decoded.error;
  EXPECT_THAT(decoded.out, HasSubstr("frame 1  2026-09-21T"));
  EXPECT_THAT(decoded.out, HasSubstr("192.0.2.1:5000 → 192.0.2.2:1812"));
  EXPECT_THAT(decoded.out, HasSubstr("\"ombak-3\""));
  EXPECT_THAT(decoded.out, HasSubstr("Message-Authenticator right"));
  EXPECT_THAT(decoded.out, HasSubstr("Response Authenticator right"));
  EXPECT_THAT(decoded.error, HasSubstr("3 frames, 2 of them RADIUS packets"));
  support::write_file(folder.path() / "c.pcap", "not a capture");
  EXPECT_EQ(client({"decode", "--capture", (folder.path() / "c.pcap").string()}).exit_code, 1);
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
