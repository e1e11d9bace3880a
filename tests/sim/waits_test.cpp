// Results of jobs that come late, twice, or never: every request ends, and every datagram is counted once.
#include <gtest/gtest.h>

#include "sim/network.h"
#include "support/packets.h"

namespace jembatan::sim {

void PrintTo(const JobQuality& jobs, std::ostream* out) {
  *out << jobs.loss << " lost, " << jobs.twice << " twice, within " << jobs.most.count() << " ms";
}

namespace {

using namespace std::chrono_literals;
using engine::Outcome;
using support::access_request;
using support::accounting_request;
using support::secret;

constexpr const char* kSlowHome = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "deck"
[[realm]]
name = "reef.example"
handle = "here"
[[user]]
name = "sari@reef.example"
password = { hash = "$6$rounds=1000$jembatan$rw3bxu7cWvQO6dScpMXKrBCyHhLu6w7m/bSWNVlmbRvIsJPCpkJV0rYbCIYCgp4S54k1Zrbt1uD4nJ1mvxkCF0" }
[sign_in]
slow_after = 0
)";

// What is compared does not matter here: nobody knows the password of that hash.
class Waits : public testing::TestWithParam<JobQuality> {};

TEST_P(Waits, EndWhateverBecomesOfTheResults) {
  Network network({0.1, 0.1, 1ms, 30ms}, 5);
  Node& home = network.add_node("198.51.100.31", kSlowHome);
  home.jobs = GetParam();
  for (int n = 0; n < 60; ++n) {
    const auto identifier = static_cast<std::uint8_t>(n);
    const std::string own = "192.0.2.9:" + std::to_string(1000 + n);
    const Octets request = n % 3 == 0 ? accounting_request("Start", "s" + std::to_string(n), identifier)
                                            .user("sari@reef.example")
                                            .signed_with(secret("deck"))
                                      : access_request(identifier)
                                            .authenticator(identifier)
                                            .user("sari@reef.example")
                                            .password("x")
                                            .signed_with(secret("deck"));
    network.add_device(own, "198.51.100.31:" + std::string(n % 3 == 0 ? "1813" : "1812"), request,
                       secret("deck"));
  }
  network.run(600s);
  EXPECT_EQ(home.in_flight(), 0U);
  std::uint64_t ended = 0;
  for (std::size_t i = 0; i < engine::kOutcomes; ++i) ended += home.counters().count(static_cast<Outcome>(i));
  EXPECT_EQ(home.counters().received_count(), ended);
  const bool lost = GetParam().loss > 0;
  const bool twice = GetParam().twice > 0;
  EXPECT_EQ(home.counters().count(Outcome::overloaded) > 0, lost);
  EXPECT_EQ(home.counters().late_count() > 0, twice);
  EXPECT_GT(home.counters().count(Outcome::accounted), 10U);
}

std::string case_name(const testing::TestParamInfo<JobQuality>& one) {
  static constexpr const char* kNames[] = {"AtOnce", "Late", "Twice", "Lost", "AllOfIt"};
  return kNames[one.index];
}

INSTANTIATE_TEST_SUITE_P(Jobs, Waits,
                         testing::Values(JobQuality{}, JobQuality{0, 0, 900ms}, JobQuality{0, 0.3, 900ms},
                                         JobQuality{0.2, 0, 900ms}, JobQuality{0.2, 0.2, 4000ms}),
                         case_name);

}  // namespace
}  // namespace jembatan::sim
