#include "base/slots.h"

#include <gtest/gtest.h>

namespace jembatan {
namespace {

TEST(Slots, ATicketOfAnEarlierUseFindsNothing) {
  Slots<int> slots(2);
  const Ticket first = slots.take();
  *slots.get(first) = 1;
  slots.release(first);
  const Ticket second = slots.take();
  EXPECT_EQ(second.index, first.index);
  EXPECT_EQ(slots.get(first), nullptr);
  EXPECT_NE(slots.get(second), nullptr);
}

TEST(Slots, GivesNothingWhenAllAreTaken) {
  Slots<int> slots(1);
  const Ticket only = slots.take();
  EXPECT_EQ(slots.get(slots.take()), nullptr);
  slots.release(only);
  slots.release(only);  // again: nothing happens
  EXPECT_EQ(slots.taken(), 0U);
  EXPECT_NE(slots.get(slots.take()), nullptr);
}

}  // namespace
}  // namespace jembatan
