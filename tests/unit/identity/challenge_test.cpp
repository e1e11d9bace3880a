#include "identity/challenge.h"

#include <gtest/gtest.h>

namespace jembatan::identity {
namespace {

template <std::size_t N>
std::array<std::uint8_t, N> octets(std::string_view hex) {
  const Octets all = *from_hex(hex);
  std::array<std::uint8_t, N> out{};
  EXPECT_EQ(all.size(), N);
  std::copy_n(all.begin(), N, out.begin());
  return out;
}

// The example of RFC 2759 §9.2: user "User", password "clientPass".
struct Example {
  Octets authenticator = *from_hex("5B5D7C7D7B3F2F3E3C2C602132262628");
  Octets peer = *from_hex("21402324255E262A28295F2B3A337C7E");
  NtHash hash = *nt_hash(view_of("clientPass"));
  std::array<std::uint8_t, 8> challenge = challenge_hash(peer, authenticator, view_of("User"));
  NtResponse response = nt_response(challenge, hash);
};

TEST(MsChapV2, IsThatOfTheStandardsExample) {  // RFC 2759 §9.2
  const Example example;
  EXPECT_EQ(to_hex(example.challenge), "d02e4386bce91226");
  EXPECT_EQ(to_hex(example.hash), "44ebba8d5312b8d611474411f56989ae");
  EXPECT_EQ(to_hex(example.response), "82309ecd8d708b5ea08faa3981cd83544233114a3d85d6df");
  EXPECT_EQ(authenticator_response(example.hash, example.response, example.challenge),
            "S=407A5589115FD0D6209F510FE9C04566932CDA56");
}

TEST(MsChapV2, KeysAreThoseOfTheStandardsExample) {  // RFC 3079 §3.5.3
  const Example example;
  EXPECT_EQ(to_hex(mppe_keys(example.hash, example.response).send), "8b7cdc149b993a1ba118cb153f56dccb");
}

TEST(MsChapV1, IsThatOfTheStandardsExample) {  // RFC 2433 §B.2, with the hash of §B.1
  const NtHash hash = *nt_hash(view_of("MyPw"));
  EXPECT_EQ(to_hex(hash), "fc156af7edcd6c0edde3337d427f4eac");
  EXPECT_EQ(to_hex(nt_response(octets<8>("102db5df085d3041"), hash)),
            "4e9d3c8f9cfd385d5bf4d3246791956ca4c351ab409a3d61");
}

TEST(NtHash, TakesAnyUtf8AndNothingElse) {
  EXPECT_TRUE(nt_hash(view_of("")));
  EXPECT_TRUE(nt_hash(view_of("pässwörd \xF0\x9F\x9A\xA2")));
  EXPECT_EQ(nt_hash(view_of("\xC0\x80")).error().code, Errc::malformed);
  EXPECT_EQ(nt_hash(view_of("\xED\xA0\x80")).error().code, Errc::malformed);
  EXPECT_EQ(nt_hash(view_of("abc\xE2")).error().code, Errc::malformed);
  EXPECT_EQ(nt_hash(view_of(std::string(300, 'a'))).error().code, Errc::too_long);
}

// The CHAP example of RFC 2865 §7.2: user flopsy, identifier 22, the Request Authenticator as challenge.
TEST(Chap, IsThatOfTheStandardsExample) {
  const Octets challenge = *from_hex("2aee86f08d0d55969ca5978e0d3367a2");
  EXPECT_EQ(to_hex(chap_response(22, view_of("arctangent"), challenge)), "e97557c316185895f293ff6344077275");
}

}  // namespace
}  // namespace jembatan::identity
