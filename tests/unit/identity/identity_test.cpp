#include <crypt.h>
#include <gtest/gtest.h>

#include "identity/name.h"
#include "identity/password.h"

namespace jembatan::identity {
namespace {

std::string parts(std::string_view name, NameForm form) {
  const auto found = split(name, form);
  if (!found) return "no";
  const std::string via = found->via.empty() ? "" : " via " + std::string(found->via);
  return std::string(found->user) + " of " + std::string(found->realm) + via;
}

TEST(Split, TakesTheLastAtSign) {  // RFC 7542 §2.2
  EXPECT_EQ(parts("sari@reef.example", NameForm::user_at_realm), "sari of reef.example");
  EXPECT_EQ(parts("a@b@reef.example", NameForm::user_at_realm), "a@b of reef.example");
  EXPECT_EQ(parts("@reef.example", NameForm::user_at_realm), " of reef.example");
  EXPECT_EQ(parts("budi", NameForm::user_at_realm), "no");
  EXPECT_EQ(parts("budi@", NameForm::user_at_realm), "no");
}

TEST(Split, KnowsFormsWithTheRealmInFront) {
  EXPECT_EQ(parts("REEF\\sari", NameForm::realm_backslash_user), "sari of REEF");
  EXPECT_EQ(parts("reef/a/b", NameForm::realm_slash_user), "a/b of reef");
  EXPECT_EQ(parts("reef.example!sari", NameForm::realm_bang_user), "sari of reef.example");
  EXPECT_EQ(parts("!sari", NameForm::realm_bang_user), "no");
  EXPECT_EQ(parts("reef!", NameForm::realm_bang_user), "no");
}

TEST(Split, KnowsDecoratedNames) {  // RFC 7542 §3.3
  EXPECT_EQ(parts("reef.example!sari@lagoon.example", NameForm::realm_bang_user_at_via),
            "sari of reef.example via lagoon.example");
  EXPECT_EQ(parts("sari@lagoon.example", NameForm::realm_bang_user_at_via), "no");
  EXPECT_EQ(parts("reef.example!sari", NameForm::realm_bang_user_at_via), "no");
}

TEST(CaseMapped, FoldsCaseAndWidthAndNormalizes) {  // RFC 8265 §3.3, its examples in §3.5
  EXPECT_EQ(case_mapped("Sari@Reef.Example"), "sari@reef.example");
  EXPECT_EQ(case_mapped("\u03A3\u03B1"), "\u03C3\u03B1");      // a capital sigma
  EXPECT_EQ(case_mapped("\u00C9ric"), "\u00E9ric");            // composed
  EXPECT_EQ(case_mapped("E\u0301ric"), "\u00E9ric");           // decomposed
  EXPECT_EQ(case_mapped("\uFF33\uFF21\uFF32\uFF29"), "sari");  // full width
  EXPECT_EQ(case_mapped("fu\u00DFball"), "fu\u00DFball");
  EXPECT_EQ(case_mapped("foo bar"), "foo bar");
}

TEST(CaseMapped, RefusesWhatTheProfileDoesNotAllow) {   // RFC 8265 §3.5
  EXPECT_EQ(case_mapped("henry\u2163"), std::nullopt);  // ROMAN NUMERAL FOUR has a compatible form
  EXPECT_EQ(case_mapped("\u265A"), std::nullopt);       // a symbol
  EXPECT_EQ(case_mapped(""), std::nullopt);
  EXPECT_EQ(case_mapped("a\x01"), std::nullopt);
  EXPECT_EQ(case_mapped("\xC3("), std::nullopt);    // no UTF-8
  EXPECT_EQ(case_mapped("\u05D0a"), std::nullopt);  // RFC 5893 §2: both directions
  EXPECT_EQ(case_mapped("\u05D0\u05D1"), "\u05D0\u05D1");
}

TEST(CaseMapped, NamesFromRightToLeftKeepTheirRule) {  // RFC 5893 §2
  for (const char* good : {"\u05D0\u05D1", "\u05D01", "\u05D0\u0661"}) EXPECT_EQ(case_mapped(good), good);
  for (const char* bad : {"a\u05D0", "1\u05D0", "\u05D0a", "\u05D01\u0661", "\u05D0 \u05D1", "\u05D0-"})
    EXPECT_EQ(case_mapped(bad), std::nullopt) << bad;
}

TEST(Comparable, NamesThatAreNotAllowedEqualThemselvesOnly) {
  EXPECT_EQ(comparable("\xFF\x01"
                       "A"),
            "\xFF\x01"
            "a");
  EXPECT_EQ(comparable("\u00C9RIC@Reef.Example"), comparable("e\u0301ric@reef.example"));
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
