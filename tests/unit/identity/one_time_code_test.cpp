#include "identity/one_time_code.h"

#include <gtest/gtest.h>

namespace jembatan::identity {
namespace {

using namespace std::chrono_literals;
using Counts = Token::Counts;
using Hash = Token::Hash;
using What = CodeVerdict::What;

constexpr const char* kKey = "12345678901234567890";

Token token(Counts counts = Counts::time, Hash hash = Hash::sha1, unsigned digits = 6) {
  std::string key;
  while (key.size() < (hash == Hash::sha1 ? 20U : hash == Hash::sha256 ? 32U : 64U)) key += kKey;
  key.resize(hash == Hash::sha1 ? 20 : hash == Hash::sha256 ? 32 : 64);
  return {"wira's phone", Secret(key), counts, hash, digits};
}

WallTime at(std::chrono::seconds time) {
  return WallTime(time);
}

class Page {
 public:
  CodeVerdict judge(std::string_view typed, WallTime now) {
    return identity::judge(page, tokens, typed, limits, now);
  }
  std::vector<Token> tokens{token()};
  CodeLimits limits;
  CodePage page;
};

TEST(OneTimeCode, IsThatOfRfc4226AppendixD) {
  const char* const wanted[] = {"755224", "287082", "359152", "969429", "338314",
                                "254676", "287922", "162583", "399871", "520489"};
  for (std::uint64_t i = 0; i < 10; ++i) EXPECT_EQ(code_at(token(), i), wanted[i]);
}

TEST(OneTimeCode, IsThatOfRfc6238AppendixB) {
  const auto code = [](std::int64_t seconds, Hash hash) {
    const Token one = token(Counts::time, hash, 8);
    return code_at(one, counter_at(one, at(std::chrono::seconds(seconds))));
  };
  EXPECT_EQ(code(59, Hash::sha1), "94287082");
  EXPECT_EQ(code(59, Hash::sha256), "46119246");
  EXPECT_EQ(code(59, Hash::sha512), "90693936");
  EXPECT_EQ(code(1111111109, Hash::sha1), "07081804");
  EXPECT_EQ(code(1234567890, Hash::sha256), "91819424");
  EXPECT_EQ(code(2000000000, Hash::sha512), "38618901");
}

TEST(OneTimeCode, ServesOnce) {
  Page page;
  EXPECT_EQ(page.judge("287082", at(59s)).what, What::right);
  const CodeVerdict again = page.judge("287082", at(60s));
  EXPECT_EQ(again.what, What::used);
  EXPECT_EQ(words_of(again), "of 'wira's phone', and has served before");
  EXPECT_EQ(page.judge("755224", at(59s)).what, What::used) << "older than the last that served";
}

TEST(OneTimeCode, MayBeAStepOffAndTheClockIsFollowed) {
  Page page;
  EXPECT_EQ(page.judge(code_at(token(), 8), at(300s)).what, What::wrong) << "two steps late";
  EXPECT_EQ(words_of(page.judge(code_at(token(), 9), at(300s))), "right, of 'wira's phone', 1 step late");
  EXPECT_EQ(page.judge(code_at(token(), 18), at(600s)).what, What::right) << "one more than it was then";
  EXPECT_EQ(page.judge(code_at(token(), 31), at(900s)).what, What::wrong);
}

TEST(OneTimeCode, OfUsesMayLeaveSomeOut) {
  Page page;
  page.tokens = {token(Counts::uses)};
  EXPECT_EQ(page.judge("755224", {}).what, What::right);
  EXPECT_EQ(page.judge("755224", {}).what, What::used);
  EXPECT_EQ(page.judge("520489", {}).off, 8);
  EXPECT_EQ(page.judge("287082", {}).what, What::wrong) << "far behind";
  page.limits.look_ahead = 2;
  EXPECT_EQ(page.judge(code_at(token(), 13), {}).what, What::wrong);
  EXPECT_EQ(page.judge(code_at(token(), 12), {}).what, What::right);
}

TEST(OneTimeCode, IsOfOneOfTheUsersTokens) {
  Page page;
  Token other = token(Counts::uses);
  other.name = "wira's card";
  page.tokens.push_back(other);
  EXPECT_EQ(page.judge("755224", at(3000s)).token, "wira's card");
  EXPECT_EQ(page.judge(code_at(token(), 100), at(3000s)).token, "wira's phone");
}

TEST(OneTimeCode, OfAnotherLengthOrWithLettersIsWrong) {
  Page page;
  for (const char* typed : {"", "28708", "2870822", "28708x", "      ", "٢٨٧٠٨٢", "94287082"})
    EXPECT_EQ(page.judge(typed, at(59s)).what, What::wrong) << typed;
  EXPECT_EQ(page.judge("287 082", at(59s)).what, What::right) << "as programs show it";
}

TEST(OneTimeCode, IsNotLookedAtWhenTooManyWereWrong) {
  Page page;
  page.limits.lock_after = 3;
  page.limits.lock_for = 60s;
  EXPECT_EQ(page.judge("000000", at(59s)).what, What::wrong);
  EXPECT_EQ(page.judge("000000", at(59s)).what, What::wrong);
  EXPECT_EQ(words_of(page.judge("000000", at(59s))),
            "wrong once too often: locked until 1970-01-01 00:01:59Z");
  EXPECT_EQ(page.judge("287082", at(59s)).what, What::locked) << "though it is right";
  EXPECT_EQ(page.judge(code_at(token(), 4), at(120s)).what, What::right);
}

TEST(OneTimeCode, OneThatHasServedCountsAsWrong) {
  Page page;
  page.limits.lock_after = 2;
  page.judge("287082", at(59s));
  page.judge("287082", at(59s));
  EXPECT_EQ(page.judge("287082", at(59s)).what, What::locks);
}

TEST(OneTimeCode, ALostTokenHasRecoveryCodesThatServeOnce) {
  Page page;
  const std::string code = recovery_code(token(), 3);
  EXPECT_EQ(code.size(), 11U);
  EXPECT_NE(code, recovery_code(token(), 4));
  EXPECT_EQ(words_of(page.judge(code, at(59s))), "a recovery code of 'wira's phone', 7 left");
  EXPECT_EQ(page.judge(code, at(59s)).what, What::used);
  EXPECT_EQ(page.judge(recovery_code(token(), 0), at(59s)).left, 6U);
}

TEST(OneTimeCode, AnotherKeyOfTheSameNameBeginsAnew) {
  Page page;
  page.judge("287082", at(59s));
  page.tokens = {token()};
  page.tokens.front().key = Secret("another key of 20 oct");
  EXPECT_EQ(page.judge(code_at(page.tokens.front(), 1), at(59s)).what, What::right);
}

TEST(OneTimeCode, WhatHasServedIsKeptAsOctetsAndMergedFromTwoSides) {
  Page here;
  Page there;
  here.judge("287082", at(59s));
  here.judge("000000", at(59s));
  there.judge(code_at(token(), 10), at(300s));
  there.judge(recovery_code(token(), 1), at(300s));
  const auto kept = unpacked_page(packed(here.page));
  ASSERT_TRUE(kept);
  EXPECT_EQ(*kept, here.page);
  const CodePage both = merged(*kept, there.page);
  EXPECT_EQ(both.used.front().next, 11U);
  EXPECT_EQ(both.used.front().recovered, 2U);
  EXPECT_EQ(both.wrong, 1U);
  EXPECT_EQ(merged(there.page, here.page), both);
}

TEST(OneTimeCode, OctetsThatAreNoPageAreRefused) {
  Octets page = packed({1, at(5s), {{"a", 1, 2, -1, 3, at(9s)}}});
  EXPECT_TRUE(unpacked_page(page));
  for (std::size_t i = 0; i < page.size(); ++i) EXPECT_FALSE(unpacked_page(OctetView(page).first(i)));
  page.push_back(0);
  EXPECT_FALSE(unpacked_page(page));
}

TEST(Base32, IsThatOfRfc4648) {
  EXPECT_EQ(to_base32(view_of("foobar")), "MZXW6YTBOI");
  EXPECT_EQ(to_base32(view_of("fooba")), "MZXW6YTB");
  EXPECT_EQ(to_base32(view_of("f")), "MY");
  EXPECT_EQ(text_of(*from_base32("mzxw 6ytb-oi======")), "foobar");
  EXPECT_EQ(text_of(*from_base32("MY")), "f");
  EXPECT_FALSE(from_base32("MZXW1"));
}

TEST(OneTimeCode, AKeyIsNeitherShortNorLong) {
  EXPECT_EQ(text_of(key_in("gezd gnbv gy3t qojq GEZD GNBV GY3T QOJQ")->reveal()), kKey);
  EXPECT_EQ(key_in("MZXW6YTBOI").error().text, "of 6 octets, must be 16 to 128 (RFC 4226 §4)");
  EXPECT_FALSE(key_in(std::string(300, 'A')));
  EXPECT_FALSE(key_in("0"));
}

TEST(OneTimeCode, ATokenGoesToAProgramAsAUri) {
  EXPECT_EQ(text_of(uri_of(token(), "wira@reef.example", "Reef Line").reveal()),
            "otpauth://totp/Reef%20Line:wira@reef.example?secret=GEZDGNBVGY3TQOJQGEZDGNBVGY3TQOJQ"
            "&issuer=Reef%20Line&algorithm=SHA1&digits=6&period=30");
}

}  // namespace
}  // namespace jembatan::identity
