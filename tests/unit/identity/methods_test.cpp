#include "identity/methods.h"

#include <gtest/gtest.h>

#include "identity/challenge.h"
#include "support/fakes.h"
#include "support/packets.h"

namespace jembatan::identity {
namespace {

const StoredPassword& kept() {
  static const StoredPassword out = StoredPassword::clear(Secret("laut-biru-7"));
  return out;
}

std::optional<Challenged> prove(const std::string& challenge, const Octets& response, std::string_view name) {
  support::FixedRandom random{1};
  const Octets octets = support::access_request()
                            .user("sari")
                            .with("MS-CHAP-Challenge", "0x" + challenge)
                            .with(name, "0x" + to_hex(response))
                            .signed_with(support::secret("laut"));
  return prove_challenge(*wire::PacketView::parse(octets), {&kept(), "sari"}, support::secret("laut"),
                         random);
}

// The right response to a challenge, whose first 8 octets are what version 1 hashes (RFC 2433).
Octets version_1(const std::array<std::uint8_t, 8>& challenge) {
  const NtResponse right = nt_response(challenge, *nt_hash(octets_of("laut-biru-7")));
  Octets out(50);
  out[1] = 1;
  std::copy(right.begin(), right.end(), out.begin() + 26);
  return out;
}

TEST(ChallengeMethods, AChallengeOfTheWrongLengthIsRefusedWhateverTheResponse) {
  const Octets right = version_1({1, 2, 3, 4, 5, 6, 7, 8});
  EXPECT_TRUE(prove("0102030405060708", right, "MS-CHAP-Response")->right);
  for (const char* challenge : {"010203040506070809", "01020304050607"}) {
    const auto out = prove(challenge, right, "MS-CHAP-Response");
    EXPECT_FALSE(out->right) << challenge;
    EXPECT_EQ(out->because, "MS-CHAP-Response or MS-CHAP-Challenge has a wrong length");
  }
  const auto second = prove("0102030405060708", Octets(50), "MS-CHAP2-Response");
  EXPECT_EQ(second->because, "MS-CHAP2-Response or MS-CHAP-Challenge has a wrong length");
}

TEST(ChallengeMethods, AResponseOfTheWrongLengthIsRefused) {
  Octets longer = version_1({1, 2, 3, 4, 5, 6, 7, 8});
  longer.push_back(0);
  EXPECT_FALSE(prove("0102030405060708", longer, "MS-CHAP-Response")->right);
}

TEST(ChallengeMethods, TheOlderHashAloneIsNotAccepted) {
  Octets response = version_1({1, 2, 3, 4, 5, 6, 7, 8});
  response[1] = 0;
  EXPECT_EQ(prove("0102030405060708", response, "MS-CHAP-Response")->because,
            "MS-CHAP with the older hash alone is not accepted");
}

}  // namespace
}  // namespace jembatan::identity
