// A Disconnect- or CoA-Request of a client that may ask: any packet, signed by its secret, and the device's
// answer to it.
#include <cstdlib>

#include "engine/dynamic_authorization.h"
#include "plan/read.h"
#include "wire/authenticator.h"

namespace {

using namespace jembatan;

constexpr const char* kPlan = R"(
[[client]]
name = "deck"
address = "192.0.2.0/24"
secret = "laut"
authorization_port = 3799
[[client]]
name = "home"
address = "198.51.100.1"
secret = "terumbu"
message_authenticator = "if-present"
may_disconnect = ["*"]
may_change = ["*"]
)";

class Sevens final : public Random {
 public:
  void fill(OctetSpan out) override { std::fill(out.begin(), out.end(), std::uint8_t{7}); }
};

class OneSession final : public engine::SessionFinder {
 public:
  OneSession() {
    record.client = session.client = "deck";
    record.source = *IpAddress::parse("192.0.2.9");
    record.attributes = {1, 6, 's', 'a', 'r', 'i', 44, 4, '4', '7', 5, 6, 0, 0, 0, 3};
  }
  Result<std::vector<accounting::Session>> sessions(const accounting::Query&) override {
    return std::vector<accounting::Session>{session};
  }
  Result<std::vector<accounting::Record>> records_of(const accounting::Session&) override {
    return std::vector<accounting::Record>{record};
  }
  accounting::Session session;
  accounting::Record record;
};

}  // namespace

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  static const plan::PlanPtr plan = [] {
    document::Problems problems;
    const std::vector<plan::SourceFile> files{{"plan.toml", kPlan}};
    return plan::read(files, {}, problems);
  }();
  static OneSession sessions;
  const WallTime began{std::chrono::seconds(1'790'000'000)};
  Sevens random;
  engine::Counters counters;
  forward::HealthBoard board;
  engine::DynamicAuthorization authorization(
      {{{forward::Purpose::authorization, {}}},
       sessions,
       std::make_shared<const engine::LoopMark>(Secret("0123456789abcdef")),
       {TimePoint(std::chrono::hours(1000)), began}},
      random, counters);
  authorization.use(board.go_live(plan, 1));
  Octets packet(data, data + size);
  engine::Actions out;
  const engine::Turn turn{{TimePoint(std::chrono::hours(1000)), began}, out};
  if (packet.size() >= wire::kHeader && packet.size() <= wire::kMaxPacket) {
    store16(&packet[2], static_cast<std::uint16_t>(packet.size()));
    packet[0] = packet[0] % 2 == 0 ? 40 : 43;
    if (wire::PacketView::parse(packet))  // what is signed is well-formed
      wire::sign_digested_request(packet, wire::SharedSecret(Secret("terumbu")));
  }
  authorization.handle({0, {*IpAddress::parse("198.51.100.1"), 4000}, {}, packet}, turn);
  if (out.asks.empty()) return 0;
  const OctetView asked = out.view(out.asks[0].packet);
  Octets reply(data, data + std::min(size, wire::kMaxPacket));
  if (reply.size() >= wire::kHeader) {
    reply[0] = static_cast<std::uint8_t>(asked[0] + 1 + reply[0] % 2);
    reply[1] = asked[1];
    store16(&reply[2], static_cast<std::uint16_t>(reply.size()));
    if (wire::PacketView::parse(reply))
      wire::sign_response(reply, wire::PacketView::parse(asked)->authenticator(),
                          wire::SharedSecret(Secret("laut")));
  }
  authorization.on_reply(0, {*IpAddress::parse("192.0.2.9"), 3799}, reply, turn);
  std::uint64_t ended = 0;
  for (std::size_t i = 0; i < engine::kOutcomes; ++i)
    ended += counters.count(static_cast<engine::Outcome>(i));
  if (counters.received_count() != ended + authorization.under_way()) std::abort();
  return 0;
}
