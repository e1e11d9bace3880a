// Two nodes that forward to each other (issue 10, 1.11): one request became 805 datagrams, and both took each
// other for dead.
#include <gtest/gtest.h>

#include "sim/network.h"
#include "support/packets.h"

namespace jembatan::sim {
namespace {

using namespace std::chrono_literals;
using engine::Outcome;
using support::secret;

std::string asks(const char* client, const char* server) {
  return std::string("[[client]]\nname = \"other\"\naddress = \"") + client +
         "\"\nsecret = \"radio\"\n[[client]]\nname = \"deck\"\naddress = \"192.0.2.0/24\"\nsecret = "
         "\"deck\"\n"
         "[realm_default]\nunknown = \"group:round\"\n[[group]]\nname = \"round\"\n[[group.server]]\nname = "
         "\"next\"\n"
         "address = \"" +
         server + "\"\nsecret = \"radio\"\n";
}

class Circle : public testing::Test {
 protected:
  Network network{{}, 1};
  Node& first = network.add_node("198.51.100.10", asks("198.51.100.20", "198.51.100.20"));
  Node& second = network.add_node("198.51.100.20", asks("198.51.100.10", "198.51.100.10"));
};

TEST_F(Circle, ASignInThatGoesRoundIsRefusedOnce) {
  const Device& device = network.add_device(
      "192.0.2.9:1000", "198.51.100.10:1812",
      support::access_request(1).user("tamu@nowhere.example").password("x").signed_with(secret("deck")),
      secret("deck"));
  network.run(120s);
  EXPECT_EQ(device.answer(), wire::Code::access_reject);
  EXPECT_EQ(first.counters().count(Outcome::loop), 1U);
  EXPECT_EQ(first.counters().received_count() + second.counters().received_count(),
            5U);  // out, back, three answers
}

// It is known again by what it says: the round ends where it comes by the same way for the second time.
TEST_F(Circle, ARecordThatGoesRoundEnds) {
  const Device& device = network.add_device(
      "192.0.2.9:1001", "198.51.100.10:1813",
      support::accounting_request("Start", "s1", 1).user("tamu@nowhere.example").signed_with(secret("deck")),
      secret("deck"));
  network.run(120s);
  EXPECT_EQ(device.answer(), wire::Code::accounting_response);
  EXPECT_EQ(first.store().records().size(), 2U);  // from the device, and from the other node
  EXPECT_EQ(second.store().records().size(), 1U);
  EXPECT_LE(first.counters().received_count() + second.counters().received_count(), 7U);
}

}  // namespace
}  // namespace jembatan::sim
