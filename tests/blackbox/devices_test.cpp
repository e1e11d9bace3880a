// Devices of other makers, as they are.
#include <gmock/gmock.h>
#include <gtest/gtest.h>

#include <thread>

#include "blackbox/chain.h"
#include "support/postgres.h"
#include "support/second_encoder.h"
#include "wire/authenticator.h"
#include "wire/builder.h"

namespace jembatan::blackbox {
namespace {

using testing::HasSubstr;

// A database whose users sign in through an edge and a hub at their home (docs/devices.md).
TEST(Devices, PostgresqlSignsItsUsersInThroughThreeHops) {
  TestNode home("home");
  home.plan(kHere);
  home.start();
  TestNode hub("hub");
  hub.plan(client_here("selat") + group_to("homes", home, "laut") +
           "[[realm]]\nname = \"reef.example\"\nhandle = \"group:homes\"\n");
  hub.start();
  TestNode edge("edge");
  const std::string to_hub =
      group_to("hubs", hub, "selat") + "[[realm]]\nname = \"reef.example\"\nhandle = \"group:hubs\"\n";
  edge.plan(client_here("geladak") + to_hub);
  edge.start();

  support::ScratchPostgres database;
  const auto access = [&](const std::string& secret) {
    return "host all all 127.0.0.1/32 radius radiusservers=\"127.0.0.1\" radiusports=\"" +
           std::to_string(edge.access) + "\" radiussecrets=\"" + secret +
           "\" radiusidentifiers=\"manifest-db\"\n";
  };
  database.start(access("geladak"));
  ASSERT_EQ(database.as_keeper("CREATE ROLE \"tamu@reef.example\" LOGIN").exit_code, 0);
  const auto sign_in = [&](const std::string& password) {
    return database.as("tamu@reef.example", password, "SELECT current_user");
  };

  // It does not sign its requests: refused in silence, and the edge says what to do.
  EXPECT_EQ(sign_in("ombak-3").exit_code, 2);
  EXPECT_THAT(client({"journal", "show", "1", "--node", edge.file()}).out,
              HasSubstr("message_authenticator = \"if-present\""));
  std::string patient = client_here("geladak");
  patient.insert(patient.find('\n', 2) + 1, "message_authenticator = \"if-present\"\n");
  edge.plan(patient + to_hub);
  ASSERT_EQ(client({"plan", "reload", "--node", edge.file()}).exit_code, 0);

  const auto right = sign_in("ombak-3");
  EXPECT_EQ(right.exit_code, 0) << right.error << database.log();
  EXPECT_EQ(right.out, "tamu@reef.example\n");
  const auto wrong = sign_in("ombak-4");
  EXPECT_EQ(wrong.exit_code, 2);
  EXPECT_THAT(wrong.error, HasSubstr("RADIUS authentication failed"));

  // Who answers why stands at the home; the edge tells who asked.
  EXPECT_TRUE(home.log_has("wrong password"));
  const nlohmann::json accepted =
      edge.ask_node({"journal", "search", "--outcome", "accepted"}).at("requests");
  ASSERT_EQ(accepted.size(), 1U);
  EXPECT_THAT(client({"journal", "show", accepted[0].at("number").dump(), "--node", edge.file()}).out,
              HasSubstr("manifest-db"));

  // A secret that differs: the password comes out wrong, and nothing says so but the edge.
  database.stop();
  database.start(access("geladag"));
  EXPECT_EQ(sign_in("ombak-3").exit_code, 2);
}

// Both authenticators by the second encoder: Message-Authenticator, which comes first, over zeros in the
// place of the other, then that one over all.
bool is_signed(second::Bytes packet, const std::string& secret) {
  const second::Bytes request(packet.begin() + 4, packet.begin() + 20);
  std::fill(packet.begin() + 4, packet.begin() + 20, 0);
  second::Bytes with_secret = packet;
  with_secret.insert(with_secret.end(), secret.begin(), secret.end());
  const second::Bytes signature(packet.begin() + 22, packet.begin() + 38);
  std::fill(packet.begin() + 22, packet.begin() + 38, 0);
  return packet[20] == 80 && second::md5(with_secret) == request &&
         second::hmac_md5(secret, packet) == signature;
}

// A device that is asked to end sessions: it checks what it must (RFC 5176 §2.3, §3.4), and knows one
// session.
void be_asked(support::UdpPeer& device, wire::Code answer, bool in_another_code = false) {
  const wire::SharedSecret secret{Secret("laut")};
  const auto datagram = device.receive(std::chrono::seconds(10));
  const auto request = *wire::PacketView::parse(datagram);
  const bool genuine = is_signed(datagram, "laut");
  const bool timed = request.find(wire::AttributeType::event_timestamp).has_value();
  const bool known = wire::text_in(request.find(wire::AttributeType::acct_session_id)) == "4711";
  const bool named = request.find(wire::AttributeType::nas_identifier).has_value();
  const auto nak = static_cast<wire::Code>(static_cast<int>(answer) + 1);
  const bool right = genuine && timed && known && !named;
  wire::PacketBuilder reply(right || in_another_code ? answer : nak, request.identifier(),
                            request.authenticator());
  (void)reply.add_message_authenticator();
  if (!right) {
    std::array<std::uint8_t, 4> cause{};
    store32(cause.data(), known ? 404 : 503);
    (void)reply.add(wire::AttributeType::error_cause, OctetView(cause));
  }
  const OctetSpan octets = reply.finish();
  wire::sign_response(octets, request.authenticator(), secret);
  device.send("127.0.0.1", device.from(), {octets.begin(), octets.end()});
}

TEST(Devices, AreAskedToEndAndToChangeSessions) {
  support::UdpPeer device;
  const auto ask = [&](std::vector<std::string> words, wire::Code answer, bool in_another_code = false) {
    std::thread answering([&] { be_asked(device, answer, in_another_code); });
    words.insert(words.end(), {"--to", "127.0.0.1:" + std::to_string(device.port()), "--secret", "laut"});
    const auto asked = client(words);
    answering.join();
    return asked;
  };
  const auto ended =
      ask({"ask", "disconnect", "--session-id", "4711", "NAS-Port=3"}, wire::Code::disconnect_ack);
  EXPECT_EQ(ended.exit_code, 0) << ended.out << ended.error;
  EXPECT_THAT(ended.out, HasSubstr("the session is ended; the reply is genuine"));
  const auto changed =
      ask({"ask", "coa", "--session-id", "4711", "Filter-Id=harbour-only"}, wire::Code::coa_ack);
  EXPECT_EQ(changed.exit_code, 0) << changed.out << changed.error;
  EXPECT_THAT(changed.out, HasSubstr("the session is changed"));
  const auto unknown = ask({"ask", "disconnect", "--user", "sari@reef.example"}, wire::Code::disconnect_ack);
  EXPECT_EQ(unknown.exit_code, 1);
  EXPECT_THAT(unknown.out, HasSubstr("refused: 503 Session-Context-Not-Found: it has no session"));
  const auto other = ask({"ask", "coa", "--session-id", "4711"}, wire::Code::disconnect_ack, true);
  EXPECT_EQ(other.exit_code, 1);
  EXPECT_THAT(other.out, HasSubstr("an unexpected reply, Disconnect-ACK"));
  EXPECT_THAT(client({"ask", "disconnect", "--to", "127.0.0.1", "--secret", "laut"}).error,
              HasSubstr("which session? --session-id, --user, or attributes"));
  EXPECT_THAT(client({"ask", "disconnect", "--session-id", "1"}).error, HasSubstr("whom? One of --to HOST"));
}

}  // namespace
}  // namespace jembatan::blackbox
