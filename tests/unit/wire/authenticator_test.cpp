#include "wire/authenticator.h"

#include <gtest/gtest.h>

#include "support/packets.h"
#include "support/second_encoder.h"
#include "wire/hidden.h"

namespace jembatan::wire {
namespace {

using support::access_request;
using support::accounting_request;
using support::secret;

// RFC 2865 §7.1: nemo signs in with the password "arctangent"; the secret is "xyzzy5461".
constexpr const char* kTelnetRequest =
    "0100003 80f403f947397 8057bd83d5cb98f4227a"
    "01066e656d6f 02120dbe708d93d413ce3196e43f782a0aee 0406c0a80110 050600000003";
constexpr const char* kTelnetAccept =
    "02000026 86fe220e7624ba2a1005f6bf9b55e0b2 060600000001 0f0600000000 0e06c0a80103";
// RFC 2865 §7.2: flopsy, by challenge.
constexpr const char* kFramedRequest =
    "01010047 2aee86f08d0d55969ca5978e0d3367a2 0108666c6f707379 031316e9755 7c316185895f293ff6344077275"
    "0406c0a80110 050600000014 060600000002 070600000001";
constexpr const char* kFramedAccept =
    "02010038 15efbc7dab26cfa3dc34d9c03c8601a4 060600000002 070600000001 0806fffffffe 0a0600000002"
    "0d0600000001 0c06000005dc";

Octets hex(std::string text) {
  std::erase(text, ' ');
  return *from_hex(text);
}

TEST(Rfc2865Section7, PasswordOfTheFirstExampleOpens) {
  const Octets octets = hex(kTelnetRequest);
  const auto request = PacketView::parse(octets);
  ASSERT_TRUE(request) << request.error().text;
  const auto password = reveal_password(request->find(AttributeType::user_password)->value,
                                        request->authenticator(), secret("xyzzy5461"));
  ASSERT_TRUE(password);
  EXPECT_EQ(text_of(*password), "arctangent");
}

TEST(Rfc2865Section7, ResponseAuthenticatorsOfBothExamplesVerify) {
  for (const auto& [request_hex, accept_hex] :
       {std::pair{kTelnetRequest, kTelnetAccept}, {kFramedRequest, kFramedAccept}}) {
    const Octets request_octets = hex(request_hex);
    const Octets accept_octets = hex(accept_hex);
    const auto request = PacketView::parse(request_octets);
    const auto accept = PacketView::parse(accept_octets);
    ASSERT_TRUE(request && accept);
    EXPECT_TRUE(verify_response(*accept, request->authenticator(), secret("xyzzy5461")));
    EXPECT_FALSE(verify_response(*accept, request->authenticator(), secret("xyzzy5462")));
  }
}

TEST(Rfc5997Section6, StatusServerAndItsAnswerVerify) {
  const Octets request_octets =
      hex("0cda0026 8a54f4686fb394c52866e302185d0623 5012 5a665e2e1e8411f3e243822097c84fa3");
  const Octets reply_octets = hex("02da0014 ef0d552a4bf2d693ec2b6fe8b5411d66");
  const auto request = PacketView::parse(request_octets);
  const auto reply = PacketView::parse(reply_octets);
  ASSERT_TRUE(request && reply);
  EXPECT_EQ(check_message_authenticator(*request, request->authenticator(), secret("xyzzy5461")),
            Signature::valid);
  EXPECT_TRUE(verify_response(*reply, request->authenticator(), secret("xyzzy5461")));
}

TEST(HmacMd5, AgreesWithTheVectorsOfRfc2202) {
  // Case 2: key "Jefe", "what do ya want for nothing?" → 750c783e6ab0b503eaa86e310a5db738
  const std::string text = "what do ya want for nothing?";
  hmac_md5_ctx hmac = secret("Jefe").hmac_start();
  hmac_md5_update(&hmac, text.size(), reinterpret_cast<const std::uint8_t*>(text.data()));
  Octets digest(16);
  hmac_md5_digest(&hmac, digest.size(), digest.data());
  EXPECT_EQ(to_hex(digest), "750c783e6ab0b503eaa86e310a5db738");
}

TEST(MessageAuthenticator, IsWhatAnIndependentImplementationComputes) {
  const Octets ours = access_request().user("sari").with("NAS-Port", "3").signed_with(secret("laut"));
  second::Bytes zeroed(ours.begin(), ours.end());
  std::fill(zeroed.begin() + 22, zeroed.begin() + 38, 0);
  EXPECT_EQ(second::Bytes(ours.begin() + 22, ours.begin() + 38), second::hmac_md5("laut", zeroed));
}

TEST(MessageAuthenticator, OfAnIndependentImplementationVerifiesWhereverItStands) {  // RFC 3579 §3.2
  const auto theirs =
      second::access_request(1, 5, "0123456789abcdef", "laut", "ombak-3", {{1, "tamu@reef.example"}});
  const Octets octets(theirs.begin(), theirs.end());
  const auto packet = PacketView::parse(octets);
  ASSERT_TRUE(packet);
  EXPECT_EQ(check_message_authenticator(*packet, packet->authenticator(), secret("laut")), Signature::valid);
  EXPECT_EQ(check_message_authenticator(*packet, packet->authenticator(), secret("lautan")),
            Signature::wrong);
  const auto password = reveal_password(packet->find(AttributeType::user_password)->value,
                                        packet->authenticator(), secret("laut"));
  EXPECT_EQ(text_of(*password), "ombak-3");
}

TEST(MessageAuthenticator, IsAbsentTwiceOrShortSaysSo) {
  const auto check = [](const Octets& octets) {
    const auto packet = PacketView::parse(octets);
    return check_message_authenticator(*packet, packet->authenticator(), secret("s"));
  };
  EXPECT_EQ(check(access_request().user("a").not_signed(secret("s"))), Signature::absent);
  EXPECT_EQ(check(access_request().raw({80, 4, 1, 2}).not_signed(secret("s"))), Signature::wrong);
  Octets twice{80, 18};
  twice.resize(18);
  EXPECT_EQ(check(access_request().raw(twice).signed_with(secret("s"))), Signature::wrong);
}

TEST(MessageAuthenticator, OfAnotherLengthIsNotFilledInWhenAPacketIsSigned) {
  Octets packet = access_request().user("a").raw({80, 4, 1, 2}).not_signed(secret("s"));
  const Octets before = packet;
  sign_request(packet, secret("s"));
  EXPECT_EQ(packet, before);
  sign_digested_request(packet, secret("s"));
  EXPECT_EQ(Octets(packet.begin() + kHeader, packet.end()), Octets(before.begin() + kHeader, before.end()));
}

TEST(MessageAuthenticator, ChangesWithEveryOctetOfThePacket) {
  const Octets good = access_request().user("sari").signed_with(secret("s"));
  for (std::size_t at = 0; at < good.size(); ++at) {
    Octets bad = good;
    bad[at] ^= 1;
    const auto packet = PacketView::parse(bad);
    if (!packet) continue;  // the change broke the format
    EXPECT_NE(check_message_authenticator(*packet, packet->authenticator(), secret("s")), Signature::valid)
        << at;
  }
}

TEST(AccountingRequest, AuthenticatorAgreesWithAnIndependentImplementation) {  // RFC 2866 §3
  const auto theirs = second::accounting_request(9, "laut", {{40, std::string("\0\0\0\1", 4)}, {44, "s1"}});
  const Octets ours = accounting_request("Start", "s1").signed_with(secret("laut"));
  EXPECT_EQ(Octets(theirs.begin(), theirs.end()), ours);
  const auto packet = PacketView::parse(ours);
  EXPECT_TRUE(verify_digested_request(*packet, secret("laut")));
  EXPECT_FALSE(verify_digested_request(*packet, secret("laus")));
}

TEST(Password, RoundTripsAtEveryLength) {  // RFC 2865 §5.2
  const Authenticator authenticator{1, 2, 3};
  for (std::size_t length = 0; length <= kMaxPassword; ++length) {
    const std::string password(length, 'p');
    const auto hidden = hide_password(view_of(password), authenticator, secret("s"));
    ASSERT_TRUE(hidden);
    EXPECT_EQ(hidden->size() % 16, 0U);
    EXPECT_GE(hidden->size(), 16U);
    EXPECT_EQ(text_of(*reveal_password(*hidden, authenticator, secret("s"))), password);
  }
}

TEST(Password, OutsideItsLengthsIsRefused) {
  EXPECT_EQ(hide_password(Octets(129), {}, secret("s")).error().text,
            "password of 129 octets, allowed 0 to 128");
  EXPECT_EQ(reveal_password(Octets(15), {}, secret("s")).error().text,
            "User-Password of 15 octets, allowed 16 to 128 in steps of 16");
  EXPECT_FALSE(reveal_password(Octets{}, {}, secret("s")));
  EXPECT_FALSE(reveal_password(Octets(144), {}, secret("s")));
}

TEST(Password, WithAnotherSecretLooksUnreadable) {
  const auto hidden = hide_password(view_of(std::string_view("laut-biru-7")), {7}, secret("right"));
  EXPECT_TRUE(looks_unreadable(*reveal_password(*hidden, {7}, secret("wrong"))));
  EXPECT_FALSE(looks_unreadable(*reveal_password(*hidden, {7}, secret("right"))));
}

}  // namespace
}  // namespace jembatan::wire
