#include "engine/origins.h"

#include <gtest/gtest.h>

#include "support/fakes.h"

namespace jembatan::engine {
namespace {

using namespace std::chrono_literals;

class OriginsTest : public testing::Test {
 protected:
  static Endpoint server(int number) {
    return *Endpoint::parse("198.51.100." + std::to_string(number) + ":1812", 0);
  }
  static Octets state(int number) {
    return {1, static_cast<std::uint8_t>(number / 256), static_cast<std::uint8_t>(number)};
  }
  support::FakeClock clock;
  Origins origins{42, 160, 60s};
};

TEST_F(OriginsTest, AStateLeadsToTheServerThatGaveIt) {
  origins.began("deck", state(1), server(1), clock.now().steady);
  origins.began("deck", state(2), server(2), clock.now().steady);
  EXPECT_EQ(origins.of("deck", state(1), clock.now().steady), server(1));
  EXPECT_EQ(origins.of("deck", state(2), clock.now().steady), server(2));
  EXPECT_EQ(origins.of("deck", state(3), clock.now().steady), std::nullopt);
  EXPECT_EQ(origins.of("pier", state(1), clock.now().steady), std::nullopt);  // another client's
  origins.began("deck", state(1), server(3), clock.now().steady);             // a State may come again
  EXPECT_EQ(origins.of("deck", state(1), clock.now().steady), server(3));
}

TEST_F(OriginsTest, AreForgottenAfterTheirTimeAndOldestFirst) {
  origins.began("deck", state(1), server(1), clock.now().steady);
  clock.advance(60s);
  EXPECT_EQ(origins.of("deck", state(1), clock.now().steady), std::nullopt);
  for (int i = 0; i < 5000; ++i) origins.began("deck", state(i), server(1), clock.now().steady);
  EXPECT_LE(origins.size(), 160U);
  EXPECT_EQ(origins.of("deck", state(4999), clock.now().steady), server(1));
}

}  // namespace
}  // namespace jembatan::engine
