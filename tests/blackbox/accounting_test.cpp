// Where records went, and queues of groups that are silent, lost, or wrong.
#include <gmock/gmock.h>
#include <gtest/gtest.h>
#include <httplib.h>
#include <sys/mount.h>

#include <algorithm>
#include <fstream>
#include <set>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using nlohmann::json;
using testing::HasSubstr;

// A hub that sends records to a home and to an archive, which is not there unless a test starts it.
class Archive : public testing::Test {
 protected:
  void SetUp() override {
    home.plan(kHere);
    home.start();
    hub.plan(plan_with_archive());
    hub.start();
  }
  std::string plan_with_archive() const {
    return client_here("deck") + group_to("homes", home, "laut") + group_to("archive", archive, "laut") +
           "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\n"
           "accounting = [\"here\", \"group:homes\", \"group:archive\"]\n";
  }
  void account(const std::string& status, const std::string& session) const {
    const auto asked =
        client({"ask", "accounting", "--to", hub.accounting_to(), "--secret", "deck", "--status", status,
                "--session-id", session, "--user", "tamu@reef.example", "NAS-Port=3"});
    EXPECT_EQ(asked.exit_code, 0) << asked.out << asked.error;
  }
  // Record 1, when so many groups have it.
  json record_when(std::size_t delivered) const {
    json out;
    EXPECT_TRUE(support::eventually([&] {
      out = hub.ask_node({"accounting", "show", "1"});
      return out.at("delivered").size() == delivered;
    })) << out.dump();
    return out;
  }
  std::uint64_t waiting(const std::string& group) const {
    return row_of(group).value("records", std::uint64_t{0});
  }
  json row_of(const std::string& group) const {
    const json all = hub.ask_node({"accounting", "queue"});
    for (const json& row : all.at("queue"))
      if (row.at("group") == group) return row;
    return json::object();
  }

  support::TemporaryFolder folder;
  TestNode hub{"hub"};
  TestNode home{"home"};
  TestNode archive{"archive"};
};

TEST_F(Archive, ARecordTellsWhoHasItAndWhoDoesNot) {
  account("Start", "s1");
  const json record = record_when(1);
  EXPECT_EQ(record.at("delivered")[0].at("group"), "homes");
  EXPECT_EQ(record.at("delivered")[0].at("server"), "homes-1");
  ASSERT_EQ(record.at("waiting").size(), 1U);
  EXPECT_EQ(record.at("waiting")[0].at("group"), "archive");
  EXPECT_TRUE(record.at("waiting")[0].at("set_aside").is_null());
  // What was sent is what came: the evidence of both hops.
  EXPECT_EQ(home.ask_node({"accounting", "show", "1"}).at("digest"), record.at("delivered")[0].at("digest"));
  const auto story = client({"journal", "show", "1", "--node", hub.file()});
  EXPECT_THAT(story.out, HasSubstr("record taken (Start, record 1; kept here, queued for"));
  EXPECT_THAT(story.out, HasSubstr("sent to homes: homes-1 acknowledged after"));
  EXPECT_THAT(story.out, HasSubstr("waits for group archive"));
  EXPECT_THAT(client({"accounting", "show", "99", "--node", hub.file()}).error,
              HasSubstr("there is no record 99"));
}

TEST_F(Archive, WhatWaitsForAGroupThatThePlanLostIsSentElsewhereOrDropped) {
  TestNode vault("vault");  // another one: what is under way to the lost group still reaches its servers
  account("Start", "s1");
  account("Stop", "s1");
  (void)record_when(1);
  hub.plan(client_here("deck") + group_to("homes", home, "laut") + group_to("new", vault, "laut") +
           "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\n");
  EXPECT_EQ(client({"plan", "reload", "--node", hub.file()}).exit_code, 0);
  EXPECT_EQ(waiting("archive"), 2U);
  EXPECT_THAT(row_of("archive").value("problem", ""), HasSubstr("the plan has no group of this name"));
  EXPECT_THAT(client({"accounting", "redirect", "archive", "--to", "nwe", "--node", hub.file()}).error,
              HasSubstr("group 'nwe' not found; nearest: 'new'"));
  vault.plan(kHere);
  vault.start();
  const auto moved = client({"accounting", "redirect", "archive", "--to", "new", "--node", hub.file()});
  EXPECT_EQ(moved.out, "2 records that waited for group archive wait for group new now\n");
  EXPECT_TRUE(support::eventually([&] { return waiting("new") == 0; }));
  EXPECT_EQ(vault.ask_node({"accounting", "search"}).at("records").size(), 2U);
  EXPECT_EQ(record_when(2).at("delivered")[1].at("group"), "new");
  const auto dropped = client({"accounting", "drop", "archive", "--node", hub.file()});
  EXPECT_EQ(dropped.out, "0 records that waited for group archive are dropped\n");
  EXPECT_THAT(client({"audit", "--node", hub.file()}).out, HasSubstr("accounting queue"));
}

TEST_F(Archive, SessionsAreShownWithWhereTheyAreAndHowTheyEnded) {
  account("Start", "s1");
  const json listed = hub.ask_node({"session", "list"}).at("sessions");
  ASSERT_EQ(listed.size(), 1U);
  EXPECT_EQ(listed[0].at("port"), "3");
  account("Stop", "s1");
  const std::string number = std::to_string(listed[0].at("number").get<int>());
  const json shown = hub.ask_node({"session", "show", number});
  EXPECT_EQ(shown.at("session").at("ended_by"), "stop");
  EXPECT_EQ(shown.at("records").size(), 2U);
  EXPECT_THAT(client({"session", "show", number, "--node", hub.file()}).out,
              HasSubstr("records of this device"));
  EXPECT_EQ(hub.ask_node({"session", "list", "--lost"}).at("sessions").size(), 0U);
  EXPECT_EQ(hub.ask_node({"session", "list", "--ended", "--nas", "other"}).at("sessions").size(), 0U);
  const json store = hub.ask_node({"accounting", "store"});
  EXPECT_EQ(store.at("days")[0].at("records"), 2);
  EXPECT_TRUE(store.at("keep_s").is_null());
}

TEST_F(Archive, WhatWasAcknowledgedIsThereAfterAKill) {
  for (int i = 0; i < 20; ++i) account("Start", std::to_string(i));
  hub.kill();
  hub.start();
  EXPECT_EQ(hub.ask_node({"accounting", "search"}).at("records").size(), 20U);
  EXPECT_EQ(hub.ask_node({"session", "list"}).at("sessions").size(), 20U);
  EXPECT_EQ(waiting("archive"), 20U);
  account("Start", "7");  // without a time of its own: a resend if it comes within a minute
  EXPECT_EQ(hub.ask_node({"accounting", "search"}).at("records").size(), 20U);
}

// Two hops that have the same, or not: over the network, and by a file.
TEST_F(Archive, HopsAreComparedOverTheNetworkAndByAFile) {
  for (const char* session : {"s1", "s2", "s3"}) account("Start", session);
  (void)record_when(1);
  ASSERT_TRUE(support::eventually([&] { return waiting("homes") == 0; }));
  const std::string nodes = (folder.path() / "nodes.toml").string();
  support::write_file(nodes, "[[node]]\nname = \"home\"\nnode = \"" + home.file() + "\"\n");
  const auto compare = [&](std::vector<std::string> more) {
    more.insert(more.begin(), {"accounting", "reconcile", "--node", hub.file(), "--sent-to", "homes"});
    return client(more, {"JEMBATAN_NODES=" + nodes});
  };
  const auto same = compare({"--with", "home"});
  EXPECT_EQ(same.exit_code, 0) << same.out << same.error;
  EXPECT_THAT(same.out, HasSubstr("3 and 3 records"));
  EXPECT_THAT(same.out, HasSubstr("they agree"));
  EXPECT_THAT(same.out, HasSubstr("clock of home"));

  const auto straight = client({"ask", "accounting", "--to", home.accounting_to(), "--secret", "laut",
                                "--status", "Start", "--session-id", "s9", "--user", "lain@reef.example"});
  EXPECT_EQ(straight.exit_code, 0) << straight.error;
  const auto more = compare({"--with", "home"});
  EXPECT_EQ(more.exit_code, 1);
  EXPECT_THAT(more.out, HasSubstr("Start  lain@reef.example  session s9"));
  EXPECT_EQ(compare({"--with", "home", "--received-from", "nobody"}).exit_code, 1);

  const std::string file = (folder.path() / "home.ledger").string();
  const auto written =
      client({"accounting", "digest", "--node", home.file(), "--out", file, "--name", "reef"});
  ASSERT_EQ(written.exit_code, 0) << written.error;
  const std::string text = support::read_file(file);
  EXPECT_THAT(text, testing::Not(HasSubstr("reef.example")));
  const auto by_file = compare({"--with", file, "--json"});
  EXPECT_EQ(by_file.exit_code, 1);
  const json told = json::parse(by_file.out).at("compared")[0];
  EXPECT_EQ(told.at("counts").at("only_there"), 1);
  EXPECT_EQ(told.at("counts").at("only_here"), 0);
  // The other way round: the sender's file at the receiver, who has one of somebody else, too.
  const std::string sent = (folder.path() / "hub.ledger").string();
  ASSERT_EQ(
      client({"accounting", "digest", "--node", hub.file(), "--sent-to", "homes", "--out", sent}).exit_code,
      0);
  const auto at_home = [&](const std::string& from) {
    return client(
        {"accounting", "reconcile", "--node", home.file(), "--with", sent, "--received-from", from});
  };
  EXPECT_THAT(at_home("here").out, HasSubstr("4 and 3 records"));
  EXPECT_THAT(at_home("nobody").out, HasSubstr("0 and 3 records"));
  support::write_file(file, text.substr(0, text.size() - 7));
  EXPECT_THAT(compare({"--with", file}).error, HasSubstr("end is missing"));
  EXPECT_THAT(compare({"--with", "hme"}).error, HasSubstr("no node that is known; nodes: home"));
}

TEST_F(Archive, AnExportHasEachRecordOnceAlsoIfItWasKilled) {
  for (const char* session : {"s1", "s2", "s3"}) account("Start", session);
  const std::string state = (folder.path() / "state").string();
  const auto out = [&](int night) { return (folder.path() / (std::to_string(night) + ".csv")).string(); };
  const auto run = [&](int night) {
    return client({"accounting", "export", "--node", hub.file(), "--checkpoint", state, "--out", out(night)});
  };
  const auto lines = [&](int night) {
    const std::string text = support::read_file(out(night));
    return std::count(text.begin(), text.end(), '\n') - 1;
  };
  EXPECT_EQ(run(1).exit_code, 0);
  EXPECT_EQ(lines(1), 3);
  account("Stop", "s1");
  EXPECT_EQ(run(2).exit_code, 0);
  EXPECT_EQ(lines(2), 1);
  EXPECT_THAT(run(2).error, HasSubstr("is there already"));
  // Killed when the file had its name, before that was remembered, and the file was moved away; then before
  // it had its name.
  const json of = json::parse(support::read_file(state)).at("of");
  account("Stop", "s2");
  EXPECT_EQ(run(3).exit_code, 0);
  const auto was_writing = [&](int night) {
    support::write_file(
        state, json{{"of", of}, {"behind", 4}, {"writing", {{"file", out(night)}, {"behind", 5}}}}.dump());
  };
  std::filesystem::rename(out(3), out(3) + ".taken");
  was_writing(3);
  EXPECT_EQ(run(4).exit_code, 0);
  EXPECT_EQ(lines(4), 0);
  was_writing(9);
  support::write_file(out(9) + ".part", "half a fi");
  EXPECT_EQ(run(5).exit_code, 0);
  EXPECT_EQ(lines(5), 1);
  support::write_file(state, json{{"of", of}, {"behind", 70}}.dump());
  EXPECT_THAT(run(6).error, HasSubstr("its store is another one"));
  support::write_file(state, json{{"of", "x"}, {"behind", 4}}.dump());
  EXPECT_THAT(run(6).error, HasSubstr("checkpoint of another export"));
  support::write_file(state, "{");
  EXPECT_THAT(run(6).error, HasSubstr("is no checkpoint"));
  const auto all = client({"accounting", "export", "--node", hub.file(), "--json-lines"});
  EXPECT_EQ(std::count(all.out.begin(), all.out.end(), '\n'), 5);
  EXPECT_EQ(json::parse(all.out.substr(0, all.out.find('\n'))).at("session_id"), "s1");
}

TEST_F(Archive, UsageIsOfAUserAPlaceOrADay) {
  account("Start", "s1");
  const auto asked = client({"ask", "accounting", "--to", hub.accounting_to(), "--secret", "deck", "--status",
                             "Stop", "--session-id", "s1", "--user", "tamu@reef.example", "NAS-Port=3",
                             "Acct-Session-Time=60", "Acct-Input-Octets=1000", "Acct-Input-Gigawords=1"});
  EXPECT_EQ(asked.exit_code, 0);
  const json usage = hub.ask_node({"accounting", "usage"});
  ASSERT_EQ(usage.at("rows").size(), 1U);
  EXPECT_EQ(usage.at("rows")[0].at("whose"), "tamu@reef.example");
  EXPECT_EQ(usage.at("rows")[0].at("input_octets"), 4294968296);
  EXPECT_EQ(usage.at("all").at("sessions"), 1);
  EXPECT_EQ(hub.ask_node({"accounting", "usage", "--by", "label:place"}).at("rows")[0].at("whose"), "");
  EXPECT_EQ(hub.ask_node({"accounting", "usage", "--user", "other"}).at("rows").size(), 0U);
  const auto csv = client({"accounting", "usage", "--node", hub.file(), "--by", "day", "--csv"});
  EXPECT_THAT(csv.out, HasSubstr("day,sessions,time_s,input_octets,output_octets,peak\n20"));
  const std::string plot = (folder.path() / "usage.svg").string();
  const auto drawn = client({"accounting", "usage", "--node", hub.file(), "--by", "day", "--plot", plot});
  EXPECT_EQ(drawn.exit_code, 0) << drawn.error;
  EXPECT_THAT(support::read_file(plot), HasSubstr("usage by day"));
  const auto wrong = client({"accounting", "usage", "--node", hub.file(), "--by", "ship"});
  EXPECT_EQ(wrong.exit_code, 2);
  EXPECT_THAT(wrong.error, HasSubstr("by 'ship'; allowed: user, realm"));
}

// A small disk of its own, as long as this lives.
class SmallDisk {
 public:
  explicit SmallDisk(std::filesystem::path at) : at_(std::move(at)) {
    std::filesystem::create_directories(at_);
    mounted_ = ::mount("tmpfs", at_.c_str(), "tmpfs", 0, "size=24m") == 0;
  }
  ~SmallDisk() {
    if (mounted_) ::umount2(at_.c_str(), MNT_DETACH);
  }
  SmallDisk(const SmallDisk&) = delete;
  SmallDisk& operator=(const SmallDisk&) = delete;
  bool mounted() const { return mounted_; }
  std::filesystem::path filling() const { return at_ / "filling"; }
  void fill() const {
    std::ofstream out(filling(), std::ios::binary | std::ios::app);
    const std::string some(4096, 'x');
    while (out.write(some.data(), 4096).flush()) {
    }
  }

 private:
  std::filesystem::path at_;
  bool mounted_ = false;
};

// Nothing is acknowledged that is not kept; when there is room again it goes on by itself.
TEST(Accounting, AFullDiskEndsAnswersUntilThereIsRoom) {
  TestNode node("home");
  const SmallDisk disk(node.path("data"));
  if (!disk.mounted()) GTEST_SKIP() << "nobody may mount a file system here";
  node.plan(kHere);
  node.start();
  std::set<std::string> acknowledged;
  const auto account = [&](const std::string& session) {
    const bool answered =
        client({"ask", "accounting", "--to", node.accounting_to(), "--secret", "laut", "--status", "Start",
                "--session-id", session, "--user", "tamu@reef.example", "--wait", "1s", "--tries", "1"})
            .exit_code == 0;
    if (answered) acknowledged.insert(session);
    return answered;
  };
  const auto ready = [&] {
    httplib::Client http("127.0.0.1", node.management);
    const auto came = http.Get("/readyz");
    return came ? std::to_string(came->status) + " " + came->body : "none";
  };
  EXPECT_TRUE(account("before"));
  int number = 0;
  EXPECT_TRUE(support::eventually([&] {
    disk.fill();
    return !account("full-" + std::to_string(number++));
  }));
  EXPECT_TRUE(support::eventually([&] { return ready().starts_with("503 records cannot be kept: "); }))
      << ready();
  EXPECT_THAT(ready(), testing::HasSubstr("KiB are free"));
  std::filesystem::remove(disk.filling());
  EXPECT_TRUE(support::eventually([&] { return account("after-" + std::to_string(number++)); }))
      << node.log();
  EXPECT_TRUE(support::eventually([&] { return ready() == "200 ready\n"; })) << ready();
  node.kill();
  node.start();
  std::set<std::string> kept;
  const auto sessions = node.ask_node({"session", "list", "--most", "10000"});
  for (const auto& one : sessions.at("sessions")) kept.insert(one.at("session_id").get<std::string>());
  for (const std::string& session : acknowledged) EXPECT_TRUE(kept.contains(session)) << session;
  EXPECT_EQ(node.stop(), 0);
}

// A page of the day's file is lost while the node is down.
TEST(Accounting, ADamagedDayIsMendedAndTold) {
  TestNode node("home");
  node.plan(kHere);
  node.start();
  const auto account = [&](const std::string& session) {
    return client({"ask", "accounting", "--to", node.accounting_to(), "--secret", "laut", "--status", "Start",
                   "--session-id", session, "--user", "tamu@reef.example"})
        .exit_code;
  };
  for (int i = 0; i < 8; ++i) EXPECT_EQ(account("s" + std::to_string(i)), 0);
  EXPECT_EQ(node.stop(), 0);
  std::filesystem::path day;
  for (const auto& file : std::filesystem::directory_iterator(node.path("data/records")))
    if (file.path().extension() == ".sqlite") day = file.path();
  std::fstream damaged(day, std::ios::in | std::ios::out | std::ios::binary);
  damaged.seekp(static_cast<std::streamoff>(4096));  // the second page: the first of the records
  damaged << std::string(4096, 'x');
  damaged.close();
  node.start();
  EXPECT_TRUE(node.log_has("was damaged"));
  EXPECT_TRUE(std::filesystem::exists(day.string() + ".damaged-1"));
  EXPECT_EQ(account("new"), 0);
  EXPECT_EQ(node.ask_node({"session", "list"}).at("sessions").size(), 9U) << "sessions are in another file";
  EXPECT_EQ(node.stop(), 0);
}

// A limit of sessions, by a rule: one elsewhere is enough, until it ends; also across a restart.
TEST(Sessions, ARuleLimitsThemAndARestartForgetsNone) {
  TestNode node("home");
  const std::string rules =
      "[[access]]\nname = \"one at a time\"\nwhen = 'sessions >= 1'\npermit = false\n"
      "message = \"You are online elsewhere\"\n[[access]]\nname = \"everybody\"\npermit = true\n";
  node.plan(kHere + rules);
  node.start();
  const auto sign_in = [&](const std::string& station) {
    return client({"ask", "access", "--to", node.access_to(), "--secret", "laut", "--user",
                   "tamu@reef.example", "--password", "ombak-3", "Calling-Station-Id=" + station})
        .exit_code;
  };
  const auto account = [&](const std::string& status, const std::string& station) {
    EXPECT_EQ(
        client({"ask", "accounting", "--to", node.accounting_to(), "--secret", "laut", "--status", status,
                "--session-id", station, "--user", "Tamu@reef.example", "Calling-Station-Id=" + station})
            .exit_code,
        0);
  };
  EXPECT_EQ(sign_in("02-AA"), 0);
  EXPECT_EQ(sign_in("02-BB"), 1);  // before the first has begun its session
  EXPECT_THAT(client({"journal", "show", "2", "--node", node.file()}).out,
              HasSubstr("the user has 1 session elsewhere"));
  account("Start", "02-aa");
  EXPECT_EQ(sign_in("02-BB"), 1);
  EXPECT_EQ(sign_in("02-AA"), 0);  // the same again
  EXPECT_THAT(client({"journal", "search", "--node", node.file()}).out, HasSubstr("one at a time"));
  const auto told =
      client({"explain", "--client", "here", "--user", "tamu@reef.example", "--node", node.file()});
  EXPECT_THAT(told.out, HasSubstr("the user has 1 session elsewhere"));

  node.kill();
  node.start();
  EXPECT_EQ(sign_in("02-BB"), 1);
  account("Stop", "02-aa");
  EXPECT_TRUE(support::eventually([&] { return sign_in("02-BB") == 0; }));
  EXPECT_EQ(sign_in("02-AA"), 1);
}

}  // namespace
}  // namespace jembatan::blackbox
