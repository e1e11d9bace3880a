#include "revision/seal.h"

#include <gtest/gtest.h>

#include "support/fakes.h"

namespace jembatan::revision {
namespace {

SealKey key(char digit) {
  return *SealKey::parse(Secret(std::string(64, digit)));
}

TEST(Seal, OpensWhatItSealed) {
  support::FixedRandom random(1);
  const Octets sealed = key('a').seal("mark", Secret("laut biru"), random);
  EXPECT_EQ(text_of(key('a').open("mark", sealed)->reveal()), "laut biru");
  EXPECT_EQ(sealed.size(), 12 + 9 + 16U);
}

TEST(Seal, RefusesAnotherKeyAnotherMarkAndDamage) {
  support::FixedRandom random(1);
  const Octets sealed = key('a').seal("mark", Secret("laut biru"), random);
  EXPECT_EQ(key('b').open("mark", sealed).error().code, Errc::not_genuine);
  EXPECT_EQ(key('a').open("other", sealed).error().code, Errc::not_genuine);
  for (std::size_t i = 0; i < sealed.size(); ++i) {
    Octets damaged = sealed;
    damaged[i] ^= 1;
    EXPECT_EQ(key('a').open("mark", damaged).error().code, Errc::not_genuine) << i;
  }
  EXPECT_EQ(key('a').open("mark", {}).error().code, Errc::not_genuine);
}

TEST(Seal, MarksTellOwnersSecretsAndKeysApart) {
  const std::string mark = key('a').mark("client x", Secret("s"));
  EXPECT_EQ(mark.size(), 32U);
  EXPECT_EQ(mark, key('a').mark("client x", Secret("s")));
  EXPECT_NE(mark, key('a').mark("client y", Secret("s")));
  EXPECT_NE(mark, key('a').mark("client x", Secret("t")));
  EXPECT_NE(mark, key('b').mark("client x", Secret("s")));
}

TEST(Seal, TwoSealsOfOneSecretDiffer) {
  support::FixedRandom random(1);
  EXPECT_NE(key('a').seal("mark", Secret("s"), random), key('a').seal("mark", Secret("s"), random));
}

TEST(Seal, AKeyIsHexadecimalDigits) {
  EXPECT_FALSE(SealKey::parse(Secret("xyz")));
  EXPECT_FALSE(SealKey::parse(Secret(std::string(62, 'a'))));
}

TEST(Sha256, IsThatOfTheStandard) {  // FIPS 180-4, the example "abc"
  EXPECT_EQ(to_hex(sha256(view_of("abc"))),
            "ba7816bf8f01cfea414140de5dae2223b00361a396177a9cb410ff61f20015ad");
}

}  // namespace
}  // namespace jembatan::revision
