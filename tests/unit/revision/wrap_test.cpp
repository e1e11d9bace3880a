#include "revision/wrap.h"

#include <gtest/gtest.h>

#include "support/fakes.h"

namespace jembatan::revision {
namespace {

SealKey node_key(char digit) {
  return *SealKey::parse(Secret(std::string(64, digit)));
}

TEST(Wrap, IsOpenedByThatNodeAlone) {
  support::FixedRandom random(5);
  const KeyPair pair(node_key('b'));
  EXPECT_EQ(pair.public_key(), KeyPair(node_key('b')).public_key()) << "the same each time";
  const Octets wrapped = *wrap(node_key('a'), pair.public_key(), random);
  EXPECT_EQ(pair.unwrap(wrapped)->secret(), node_key('a').secret());
  EXPECT_EQ(KeyPair(node_key('c')).unwrap(wrapped).error().code, Errc::not_genuine);
  EXPECT_NE(*wrap(node_key('a'), pair.public_key(), random), wrapped) << "another one each time";
  for (std::size_t i = 0; i < wrapped.size(); ++i) {
    Octets damaged = wrapped;
    damaged[i] ^= 1;
    EXPECT_FALSE(pair.unwrap(damaged)) << i;
  }
  for (std::size_t size = 0; size < wrapped.size(); ++size)
    EXPECT_FALSE(pair.unwrap(OctetView(wrapped).first(size))) << size;
}

// The point of small order would make the key one that everybody knows.
TEST(Wrap, RefusesWhatIsNoPublicKey) {
  support::FixedRandom random(5);
  EXPECT_FALSE(wrap(node_key('a'), Octets(32), random));
  EXPECT_FALSE(wrap(node_key('a'), Octets(31, 9), random));
  const KeyPair pair(node_key('b'));
  Octets nowhere(32 + 12 + 32 + 16);
  EXPECT_FALSE(pair.unwrap(nowhere));
}

TEST(Wrap, AFingerprintIsReadAloud) {
  const std::string one = fingerprint(KeyPair(node_key('a')).public_key());
  EXPECT_EQ(one.size(), 39U);
  EXPECT_EQ(one[4], '-');
  EXPECT_NE(one, fingerprint(KeyPair(node_key('b')).public_key()));
}

}  // namespace
}  // namespace jembatan::revision
