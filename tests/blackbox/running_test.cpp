// Starting, reloading and stopping when something is wrong with the machine (issue 10, part 3).
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <signal.h>

#include <atomic>
#include <thread>

#include "blackbox/chain.h"
#include "support/second_encoder.h"

namespace jembatan::blackbox {
namespace {

using namespace std::chrono_literals;
using support::UdpPeer;
using testing::HasSubstr;

support::Finished run_to_the_end(const TestNode& node, const std::string& before = "") {
  return support::run(
      {"/bin/sh", "-c", before + "exec timeout 30 " + kServer + " --node '" + node.file() + "'"});
}

bool signs_in(const TestNode& node, int id = 1) {
  const UdpPeer device;
  device.send(
      "127.0.0.1", node.access,
      second::access_request(1, id, "0123456789abcdef", "laut", "ombak-3", {{1, "tamu@reef.example"}}));
  const auto reply = device.receive(20000ms);
  return !reply.empty() && reply[0] == 2;
}

// So many clients, and the one that signs in.
std::string many_clients(int count) {
  std::string out = kHere;
  for (int i = 0; i < count; ++i) {
    const std::string number = std::to_string(i);
    out += "[[client]]\nname = \"pier-" + number + "\"\naddress = \"192.0.2." + number +
           "\"\nsecret = \"angin kencang " + number + "\"\n";
  }
  return out;
}

TEST(Start, ABrokenJournalIsSetAside) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  EXPECT_EQ(node.stop(), 0);
  support::write_file(node.path("data/journal.sqlite"), std::string(20000, 'x'));
  node.start();
  EXPECT_THAT(node.log(),
              HasSubstr("set aside as '" + node.path("data/journal.sqlite.aside-1").string() + "'"));
  EXPECT_TRUE(signs_in(node));
  EXPECT_EQ(support::read_file(node.path("data/journal.sqlite.aside-1")).size(), 20000U);
}

TEST(Start, AnAccountingStoreThatLostItsRecordsIsNotBegunAnew) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  EXPECT_EQ(node.stop(), 0);
  support::write_file(node.path("data/accounting.sqlite"), "");
  const auto empty = run_to_the_end(node);
  EXPECT_EQ(empty.exit_code, 1);
  EXPECT_THAT(empty.error, HasSubstr("is empty: the records that this node has acknowledged are not in it"));
  support::write_file(node.path("data/accounting.sqlite"), std::string(20000, 'x'));
  EXPECT_THAT(run_to_the_end(node).error, HasSubstr("file is not a database"));
}

TEST(Start, TooFewDescriptorsAreSaid) {
  TestNode node("home");
  node.plan(kHere);
  const auto ended = run_to_the_end(node, "ulimit -n 32; ");
  EXPECT_EQ(ended.exit_code, 1);
  EXPECT_THAT(ended.error, HasSubstr("this process may have 32 files and sockets open, and needs "));
}

TEST(Start, AdviceIsNotTheReasonOfARefusal) {
  TestNode node("home");
  node.plan(kHere + "[[client]]\nname = \"x\"\naddress = \"192.0.2.1\"\nsecret = \"short\"\nbroken = 1\n");
  const auto ended = run_to_the_end(node);
  EXPECT_THAT(ended.error, HasSubstr("unknown key 'broken'"));
  EXPECT_THAT(ended.error, testing::Not(HasSubstr("weak-secret")));
}

TEST(Reload, ThatTakesMostClientsAwayIsRefusedUnlessForced) {
  TestNode node("home");
  node.plan(many_clients(12));
  node.start();
  node.plan(many_clients(2));
  node.signal(SIGHUP);
  EXPECT_TRUE(node.log_has("10 of 13 clients would be gone: to do it all the same, --force"));
  const auto refused = client({"plan", "reload", "--node", node.file()});
  EXPECT_EQ(refused.exit_code, 4);
  EXPECT_THAT(refused.error, HasSubstr("10 of 13 clients would be gone"));
  EXPECT_TRUE(node.log_has("plan: reload asked for by local: 10 of 13 clients would be gone"));
  EXPECT_TRUE(signs_in(node));
  EXPECT_EQ(client({"plan", "reload", "--force", "--node", node.file()}).exit_code, 0);
}

TEST(Reload, InTheMiddleOfASaveReadsTheWholeFileOrNothing) {
  TestNode node("home");
  node.plan(many_clients(3));
  node.start();
  std::atomic<bool> saving{true};
  std::thread editor([&] {
    while (saving) {  // as an editor saves that writes in place: first nothing, then a part, then all
      const std::string text = many_clients(3);
      node.plan("");
      node.plan(text.substr(0, text.size() / 2));
      node.plan(text);
    }
  });
  for (int i = 0; i < 5; ++i) {
    (void)client({"plan", "reload", "--node", node.file()});
    EXPECT_TRUE(signs_in(node, i));
  }
  saving = false;
  editor.join();
}

TEST(Stop, AFloodDoesNotHoldItUp) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  std::atomic<bool> flooding{true};
  std::thread flood([&] {
    const UdpPeer device;
    for (int id = 0; flooding; ++id)
      device.send("127.0.0.1", node.access,
                  second::access_request(1, id % 256, "0123456789abcdef", "laut", "ombak-3",
                                         {{1, "tamu@reef.example"}}));
  });
  EXPECT_TRUE(support::eventually([&] { return node.ask_node({"node", "status"}).at("received") > 1000; }));
  EXPECT_EQ(node.stop(), 0);
  EXPECT_THAT(node.log(), HasSubstr("node home has stopped"));
  flooding = false;
  flood.join();
}

TEST(Stop, ASecondSignalEndsItAtOnce) {
  TestNode silent("silent");
  silent.plan(kHere);
  silent.start();
  TestNode node("edge", "stop_within = \"5m\"");
  node.plan(client_here("deck-secret") + group_to("home", silent, "laut") +
            "[realm_default]\nunknown = \"group:home\"\n");
  node.start();
  silent.signal(SIGSTOP);
  const UdpPeer device;
  EXPECT_TRUE(support::eventually([&] {
    device.send("127.0.0.1", node.access,
                second::access_request(1, 5, "0123456789abcdef", "deck-secret", "x", {{1, "x@y.example"}}));
    return node.ask_node({"node", "status"}).at("in_flight") == 1;
  }));
  node.signal(SIGTERM);
  EXPECT_TRUE(node.log_has("node edge stops"));
  node.signal(SIGTERM);
  EXPECT_EQ(node.wait(), 1);
  EXPECT_THAT(node.log(), HasSubstr("stopped at once (asked a second time)"));
  silent.signal(SIGCONT);
}

TEST(Log, NobodyWhoReadsItHoldsUpTheServer) {
  TestNode node("home");
  node.plan(kHere);
  const support::Background server(
      {"/bin/sh", "-c", kServer + " --node '" + node.file() + "' 2>&1 | sleep 60"}, node.path("log"));
  EXPECT_TRUE(support::eventually(
      [&] { return std::filesystem::exists(node.path("data/lock")) && signs_in(node, 0); }));
  for (int i = 0; i < 1500; ++i)
    ASSERT_TRUE(signs_in(node, i % 256)) << i;  // 200 octets of log each: more than a pipe
  const auto process = std::stoi(support::read_file(node.path("data/lock")));
  ::kill(process, SIGTERM);
}

}  // namespace
}  // namespace jembatan::blackbox
