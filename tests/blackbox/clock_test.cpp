// A node whose clock is set back, and forth again, while it runs.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "blackbox/chain.h"

namespace jembatan::blackbox {
namespace {

using testing::IsSupersetOf;

// The program gets another time of day; the time that deadlines count by stays as it is.
class ClockOfTheHub : public testing::Test {
 protected:
  ClockOfTheHub() {
    set("+0");
    hub.words_before = {"env",
                        "LD_PRELOAD=" + support::faketime_library(),
                        "FAKETIME_TIMESTAMP_FILE=" + hub.path("clock").string(),
                        "FAKETIME_CACHE_DURATION=1",
                        "DONT_FAKE_MONOTONIC=1",
                        "ASAN_OPTIONS=verify_asan_link_order=0"};
    home.plan(kHere);
    home.start();
    hub.plan(kHere + group_to("homes", home, "laut") + R"(
[[realm]]
name = "deck.example"
handle = "here"
accounting = ["here", "group:homes"]
)");
    hub.start();
  }
  void set(const std::string& how) const { support::write_file(hub.path("clock"), how); }
  // Every record tells the same time, as a device with a clock that is right does.
  void account(const std::string& status, const std::string& session) const {
    const auto asked =
        client({"ask", "accounting", "--to", hub.accounting_to(), "--secret", "laut", "--status", status,
                "--session-id", session, "--user", "sari@deck.example", "Event-Timestamp=" + started});
    EXPECT_EQ(asked.exit_code, 0) << asked.out << asked.error;
  }
  static std::vector<nlohmann::json> records(const TestNode& node) {
    const auto body = node.ask_node({"accounting", "search"});
    return body.contains("records") ? body.at("records").get<std::vector<nlohmann::json>>()
                                    : std::vector<nlohmann::json>{};
  }
  static std::vector<std::string> told(const TestNode& node) {
    std::vector<std::string> out;
    for (const auto& row : records(node))
      out.push_back(row.at("status").get<std::string>() + " " + row.at("session_id").get<std::string>());
    return out;
  }
  // The hour of the last record: "2026-09-21T14".
  std::string hour() const {
    static int number = 0;
    account("Start", "clock-" + std::to_string(++number));
    std::string out;
    EXPECT_TRUE(support::eventually([&] {
      for (const auto& row : records(hub))
        if (row.at("session_id") == "clock-" + std::to_string(number))
          out = row.at("received").get<std::string>().substr(0, 13);
      return !out.empty();
    }));
    return out;
  }

  TestNode home{"home"};
  TestNode hub{"hub"};
  std::string started = [] {
    const auto now = std::chrono::system_clock::to_time_t(std::chrono::system_clock::now());
    return std::to_string(now);
  }();
};

TEST_F(ClockOfTheHub, MayBeSetBackAnHourAndForthAgain) {
  account("Start", "s1");
  const std::string before = hour();
  set("-1h");
  std::string after;
  ASSERT_TRUE(support::eventually([&] { return (after = hour()) != before; })) << hub.log();
  EXPECT_LT(after, before);
  account("Start", "s1");  // a resend, of what came an hour later
  account("Interim-Update", "s1");
  account("Start", "s2");
  account("Stop", "s1");
  EXPECT_EQ(client({"ask", "access", "--to", hub.access_to(), "--secret", "laut", "--user",
                    "tamu@reef.example", "--password", "ombak-3"})
                .exit_code,
            0);
  EXPECT_TRUE(support::eventually([&] { return told(home).size() == told(hub).size(); })) << hub.log();
  EXPECT_THAT(told(home), IsSupersetOf({"Start s1", "Interim-Update s1", "Start s2", "Stop s1"}));
  const auto starts = told(hub);
  EXPECT_EQ(std::count(starts.begin(), starts.end(), "Start s1"), 1) << "it is known";
  const auto open = hub.ask_node({"session", "list"}).dump();
  EXPECT_EQ(open.find("\"s1\""), std::string::npos) << "it has ended";
  EXPECT_NE(open.find("\"s2\""), std::string::npos);

  hub.kill();
  hub.start();  // by the clock that is wrong
  account("Interim-Update", "s2");
  set("+0");
  ASSERT_TRUE(support::eventually([&] { return hour() > after; }));
  account("Stop", "s2");
  EXPECT_TRUE(support::eventually([&] { return told(home).size() == told(hub).size(); })) << hub.log();
  EXPECT_THAT(told(home), IsSupersetOf({"Interim-Update s2", "Stop s2"}));
  EXPECT_EQ(hub.stop(), 0) << hub.log();
}

}  // namespace
}  // namespace jembatan::blackbox
