#include <crypt.h>
#include <gtest/gtest.h>

#include "identity/name.h"
#include "identity/password.h"

namespace jembatan::identity {
namespace {

TEST(Split, TakesTheLastAtSign) {  // RFC 7542 §2.2
  EXPECT_EQ(split("sari@reef.example").user, "sari");
  EXPECT_EQ(split("sari@reef.example").realm, "reef.example");
  EXPECT_EQ(split("a@b@reef.example").user, "a@b");
  EXPECT_EQ(split("@reef.example").user, "");
}

TEST(Split, WithoutRealmThereIsNone) {
  EXPECT_EQ(split("budi").user, "budi");
  EXPECT_EQ(split("budi").realm, "");
  EXPECT_EQ(split("budi@").user, "budi");
  EXPECT_EQ(split("budi@").realm, "");
}

TEST(ClearPassword, MatchesOnlyItself) {
  const StoredPassword stored = StoredPassword::clear(Secret("ombak-3"));
  EXPECT_FALSE(stored.slow());
  EXPECT_TRUE(stored.matches(view_of(std::string_view("ombak-3"))));
  EXPECT_FALSE(stored.matches(view_of(std::string_view("Ombak-3"))));
  EXPECT_FALSE(stored.matches(view_of(std::string_view("ombak-3 "))));
  EXPECT_FALSE(stored.matches({}));
}

std::string hash_of(const char* password, const char* kind) {
  crypt_data work{};
  char salt[CRYPT_GENSALT_OUTPUT_SIZE];
  crypt_gensalt_rn(kind, 0, "0123456789abcdef", 16, salt, sizeof(salt));
  return crypt_r(password, salt, &work);
}

TEST(HashedPassword, MatchesForTheKindsThatPeopleUse) {
  for (const char* kind : {"$y$", "$6$", "$5$"}) {
    const auto stored = StoredPassword::hash(Secret(hash_of("laut-biru-7", kind)));
    ASSERT_TRUE(stored) << kind;
    EXPECT_TRUE(stored->slow());
    EXPECT_TRUE(stored->matches(view_of(std::string_view("laut-biru-7")))) << kind;
    EXPECT_FALSE(stored->matches(view_of(std::string_view("laut-biru-8")))) << kind;
    EXPECT_FALSE(stored->matches({})) << kind;
  }
}

TEST(HashedPassword, WhatStandsBehindAZeroOctetIsNotIgnored) {
  const auto stored = StoredPassword::hash(Secret(hash_of("right", "$6$")));
  EXPECT_FALSE(stored->matches(view_of(std::string_view("right\0wrong", 11))));
}

TEST(HashedPassword, TextThatIsNoHashIsRefused) {
  EXPECT_FALSE(StoredPassword::hash(Secret("plain text")));
  EXPECT_FALSE(StoredPassword::hash(Secret("$nothing$x")));
  EXPECT_FALSE(StoredPassword::hash(Secret("")));
}

TEST(NoPassword, MatchesNothing) {
  EXPECT_FALSE(StoredPassword().matches({}));
}

}  // namespace
}  // namespace jembatan::identity
