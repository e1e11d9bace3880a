#include "server/unmask.h"

#include <gtest/gtest.h>

namespace jembatan::server {
namespace {

using namespace std::chrono_literals;

TEST(Unmask, ShowsOneUsersRejectedPasswordsForAWhile) {
  const WallTime now{1000s};
  Unmask unmask;
  unmask.rejected({"sari@reef.example", "deck", now, Secret("before")});
  EXPECT_FALSE(unmask.view("sari@reef.example", 0, now));
  unmask.watch("Sari@Reef.example", now + 10s, now);
  EXPECT_TRUE(unmask.view("sari@reef.example", 0, now + 9s));
  EXPECT_FALSE(unmask.view("tamu@reef.example", 0, now));
  unmask.rejected({"tamu@reef.example", "deck", now, Secret("another's")});
  unmask.rejected({"sari@reef.example", "deck", now, Secret("first")});
  unmask.rejected({"sari@reef.example", "pier", now, Secret("second")});
  const auto view = unmask.view("sari@reef.example", 1, now);
  ASSERT_TRUE(view);
  ASSERT_EQ(view->seen.size(), 1U);
  EXPECT_EQ(text_of(view->seen[0].password.reveal()), "second");
  EXPECT_FALSE(unmask.view("sari@reef.example", 0, now + 10s));
  EXPECT_FALSE(unmask.view("sari@reef.example", 0, now + 10s));
}

TEST(Unmask, IsBounded) {
  const WallTime now{1000s};
  Unmask unmask;
  for (int i = 0; i < 100; ++i) unmask.watch("user " + std::to_string(i), now + 10s, now);
  EXPECT_TRUE(unmask.view("user 15", 0, now));
  EXPECT_FALSE(unmask.view("user 16", 0, now));
  for (int i = 0; i < 100; ++i) unmask.rejected({"user 1", "deck", now, Secret("x")});
  EXPECT_EQ(unmask.view("user 1", 0, now)->seen.size(), 50U);
}

TEST(Unmask, EndsEarlyWhenAsked) {
  const WallTime now{1000s};
  Unmask unmask;
  unmask.watch("sari", now + 10s, now);
  unmask.watch("sari", now, now);
  EXPECT_FALSE(unmask.view("sari", 0, now));
}

}  // namespace
}  // namespace jembatan::server
