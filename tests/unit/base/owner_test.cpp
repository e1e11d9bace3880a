#include "base/owner.h"

#include <gtest/gtest.h>

#include <thread>

namespace jembatan {
namespace {

#ifndef NDEBUG
TEST(OwnerDeathTest, AnotherThreadEndsTheProgram) {
  testing::FLAGS_gtest_death_test_style = "threadsafe";
  EXPECT_DEATH(
      {
        Owner owner;
        owner.check();
        std::thread([&] { owner.check(); }).join();
      },
      "belongs to one thread");
}
#endif

TEST(Owner, IsTheFirstThatCalls) {
  Owner owner;
  std::thread([&] { owner.check(); }).join();
  owner.hand_over();
  owner.check();
  owner.check();
}

}  // namespace
}  // namespace jembatan
