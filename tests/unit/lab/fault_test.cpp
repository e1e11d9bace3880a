#include "lab/fault.h"

#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include "support/fakes.h"
#include "support/packets.h"
#include "wire/authenticator.h"
#include "wire/hidden.h"

namespace jembatan::lab {
namespace {

using support::access_request;
using support::accounting_request;
using support::secret;
using wire::Code;
using wire::PacketView;

class FaultTest : public testing::Test {
 protected:
  std::vector<Passed> to_node(const std::string& fault, const Octets& datagram) {
    const auto key = secret("laut");
    return pass(*parse_fault(fault), Direction::to_node, datagram, &key, random);
  }
  std::vector<Passed> to_asker(const std::string& fault, const Octets& datagram) {
    return pass(*parse_fault(fault), Direction::to_asker, datagram, nullptr, random);
  }
  support::FixedRandom random{5};
  Octets sign_in =
      access_request().user("sari@reef.example").password("laut-biru-7").signed_with(secret("laut"));
};

TEST_F(FaultTest, AreWrittenAsTheyAreRead) {
  for (const char* text :
       {"none", "silent", "delay 800ms", "drop 20%", "duplicate", "reorder", "wrong-secret", "reject-all"}) {
    const auto fault = parse_fault(text);
    ASSERT_TRUE(fault) << text;
    EXPECT_EQ(text_of(*fault), text);
  }
  for (const char* text : {"", "slow", "delay", "delay soon", "delay 1h", "drop", "drop 20", "drop 101%",
                           "drop -1%", "silent now", "drop 1000%"}) {
    const auto fault = parse_fault(text);
    ASSERT_FALSE(fault) << text;
    EXPECT_THAT(fault.error().text, testing::HasSubstr("allowed: none, silent, delay TIME, drop PERCENT%"));
  }
}

TEST_F(FaultTest, DelayLossAndDoublesLeaveTheOctetsAsTheyAre) {
  EXPECT_TRUE(to_node("silent", sign_in).empty());
  const auto whole = to_node("none", sign_in);
  ASSERT_EQ(whole.size(), 1U);
  EXPECT_EQ(whole[0].datagram, sign_in);
  EXPECT_EQ(whole[0].after, Duration{0});
  EXPECT_EQ(to_node("delay 800ms", sign_in).at(0).after, Duration{800});
  EXPECT_EQ(to_node("duplicate", sign_in).size(), 2U);
  std::size_t passed = 0;
  std::size_t late = 0;
  for (int i = 0; i < 1000; ++i) {
    passed += to_node("drop 20%", sign_in).size();
    late += to_asker("reorder", sign_in).at(0).after > Duration{0} ? 1U : 0U;
  }
  EXPECT_NEAR(static_cast<double>(passed), 800, 50);
  EXPECT_NEAR(static_cast<double>(late), 500, 60);
}

TEST_F(FaultTest, AnotherSecretIsWhatTheOtherSideSees) {
  const Octets request = to_node("wrong-secret", sign_in).at(0).datagram;
  const auto packet = PacketView::parse(request);
  ASSERT_TRUE(packet);
  EXPECT_EQ(wire::check_message_authenticator(*packet, packet->authenticator(), secret("laut")),
            wire::Signature::wrong);
  const auto password = wire::reveal_password(packet->find(wire::AttributeType::user_password)->value,
                                              packet->authenticator(), secret("laut"));
  ASSERT_TRUE(password);
  EXPECT_TRUE(wire::looks_unreadable(*password));
  const Octets record =
      to_node("wrong-secret", accounting_request("Start", "a1").signed_with(secret("laut"))).at(0).datagram;
  EXPECT_FALSE(wire::verify_digested_request(*PacketView::parse(record), secret("laut")));
  wire::PacketBuilder reply(Code::access_accept, 7, {});
  wire::sign_response(reply.finish(), PacketView::parse(sign_in)->authenticator(), secret("laut"));
  const Octets answer(reply.finish().begin(), reply.finish().end());
  EXPECT_FALSE(wire::verify_response(*PacketView::parse(to_asker("wrong-secret", answer).at(0).datagram),
                                     PacketView::parse(sign_in)->authenticator(), secret("laut")));
  const Octets noise{1, 2, 3};
  EXPECT_EQ(to_node("wrong-secret", noise).at(0).datagram, noise);
}

TEST_F(FaultTest, RejectAllAnswersInTheNodesPlaceAsTheNodeWould) {
  const Octets asked =
      access_request(9).user("sari@reef.example").plus({33, 4, 'a', 'b'}).signed_with(secret("laut"));
  const auto passed = to_node("reject-all", asked);
  ASSERT_EQ(passed.size(), 1U);
  EXPECT_TRUE(passed[0].back);
  const auto reply = PacketView::parse(passed[0].datagram);
  EXPECT_EQ(reply->code(), Code::access_reject);
  EXPECT_TRUE(wire::verify_response(*reply, PacketView::parse(asked)->authenticator(), secret("laut")));
  EXPECT_EQ(wire::text_in(reply->find(wire::AttributeType::proxy_state)), "ab");
  EXPECT_FALSE(
      to_node("reject-all", accounting_request("Start", "a1").signed_with(secret("laut"))).at(0).back);
  EXPECT_FALSE(pass(*parse_fault("reject-all"), Direction::to_node, asked, nullptr, random).at(0).back);
}

}  // namespace
}  // namespace jembatan::lab
