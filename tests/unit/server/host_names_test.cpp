#include "server/host_names.h"

#include <gtest/gtest.h>

#include "plan/read.h"
#include "support/fakes.h"

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

class HostNamesTest : public testing::Test {
 protected:
  plan::PlanPtr read(const std::string& text) {
    const std::vector<plan::SourceFile> files{{"plan.toml", text}};
    plan::Outside outside;
    outside.resolve = [this](const std::string& host) { return names.addresses_of(host); };
    document::Problems problems;
    auto plan = plan::read(files, outside, problems);
    EXPECT_TRUE(plan) << problems.text();
    return plan;
  }
  void now_leads_to(std::vector<std::string> addresses, std::chrono::seconds lives) {
    found = host::FoundAddresses{{}, lives};
    for (const auto& address : addresses) found->addresses.push_back(*IpAddress::parse(address));
  }
  std::chrono::seconds due() {
    return std::chrono::duration_cast<std::chrono::seconds>(*names.next_due() - clock.now().steady);
  }
  support::FakeClock clock;
  std::optional<host::FoundAddresses> found;
  HostNames names{[this](const std::string& host) -> Result<host::FoundAddresses> {
                    if (found && host == "pier.strait.example") return *found;
                    return fail(Errc::not_found, "host name '" + host + "': no answer");
                  },
                  clock};
};

const std::string kClient =
    "[[client]]\nname = \"pier\"\naddress = \"pier.strait.example\"\nsecret = \"angin-laut-utara-91\"\n";
const std::string kGroup =
    "[[group]]\nname = \"homes\"\n[[group.server]]\nname = \"pier\"\naddress = \"pier.strait.example\"\n"
    "secret = \"angin-laut-utara-91\"\n";

TEST_F(HostNamesTest, AreKnownWhileTheResolverIsDead) {
  now_leads_to({"192.0.2.9"}, 60s);
  names.remember(*read(kClient));
  found.reset();
  EXPECT_EQ(read(kClient)->client_named("pier")->address.address.text(), "192.0.2.9");
  EXPECT_EQ(names.addresses_of("quay.strait.example").error().text,
            "host name 'quay.strait.example': no answer");
}

TEST_F(HostNamesTest, AreLookedUpAgainByTheirTtl) {
  EXPECT_FALSE(names.next_due());
  now_leads_to({"192.0.2.7", "192.0.2.8"}, 300s);
  names.remember(*read(kGroup));
  EXPECT_EQ(due(), 30s);  // a plan that comes out of the store may be old
  clock.advance(30s);
  EXPECT_FALSE(names.look_again());
  EXPECT_EQ(due(), 300s);
  now_leads_to({"192.0.2.8", "192.0.2.9"}, 5s);
  EXPECT_FALSE(names.look_again()) << "before its time";
  clock.advance(300s);
  EXPECT_TRUE(names.look_again());
  EXPECT_EQ(names.known_addresses_of("pier.strait.example")->size(), 2U);
  EXPECT_EQ(due(), 60s) << "not as often as its TTL of 5 s would have it";
}

TEST_F(HostNamesTest, WhatChangesEachTimeIsAskedForLessAndLess) {
  now_leads_to({"192.0.2.7"}, 1s);
  names.remember(*read(kGroup));
  std::chrono::seconds before{0};
  for (int i = 0; i < 12; ++i) {
    clock.advance(due());
    now_leads_to({"192.0.2." + std::to_string(10 + i)}, 1s);
    EXPECT_TRUE(names.look_again());
    EXPECT_GE(due(), before);
    before = due();
  }
  EXPECT_EQ(before, 1h);
  clock.advance(before);
  EXPECT_FALSE(names.look_again());
  EXPECT_EQ(due(), 30s);
}

TEST_F(HostNamesTest, AFailureMovesNothing) {
  now_leads_to({"192.0.2.7"}, 60s);
  names.remember(*read(kGroup));
  found.reset();
  clock.advance(30s);
  EXPECT_FALSE(names.look_again());
  EXPECT_EQ(names.known_addresses_of("pier.strait.example")->front().text(), "192.0.2.7");
  EXPECT_EQ(due(), 60s);
}

TEST_F(HostNamesTest, AnOrderOfFamiliesAndTooManyAddressesAreNoMove) {
  now_leads_to({"203.0.113.1", "203.0.113.2", "203.0.113.3", "203.0.113.4", "203.0.113.5", "203.0.113.6",
                "203.0.113.7", "2001:db8::1", "2001:db8::2"},
               60s);
  const auto plan = read(kGroup);
  EXPECT_EQ(plan->groups[0].servers.size(), plan::kMostAddresses);
  EXPECT_EQ(plan->groups[0].servers.back().name, "pier@2001:db8::1");
  names.remember(*plan);
  clock.advance(30s);
  EXPECT_FALSE(names.look_again());
  names.remember(*plan);
  EXPECT_EQ(due(), 60s);
}

// As an export that was changed elsewhere brings them along.
TEST_F(HostNamesTest, APlanWithOldAddressesIsPutRight) {
  now_leads_to({"192.0.2.7"}, 3600s);
  names.remember(*read(kGroup));
  clock.advance(30s);
  EXPECT_FALSE(names.look_again());
  names.remember(*read(kGroup + "resolved = [\"192.0.2.99\"]\n"));
  EXPECT_EQ(due(), 30s);
  clock.advance(30s);
  EXPECT_TRUE(names.look_again());
}

TEST_F(HostNamesTest, NamesThatThePlanLostAreForgotten) {
  now_leads_to({"192.0.2.7"}, 60s);
  names.remember(*read(kGroup));
  names.remember(plan::Plan{});
  EXPECT_FALSE(names.next_due());
  EXPECT_FALSE(names.known_addresses_of("pier.strait.example"));
}

}  // namespace
}  // namespace jembatan::server
