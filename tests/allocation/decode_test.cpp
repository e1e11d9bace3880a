// Decoding allocates nothing: this program counts every allocation.
#include <gtest/gtest.h>

#include <cstdlib>
#include <new>

#include "condition/condition.h"
#include "support/packets.h"
#include "wire/authenticator.h"

namespace {

std::size_t allocations = 0;

void* counted(std::size_t size) {
  ++allocations;
  void* out = std::malloc(size == 0 ? 1 : size);
  if (out == nullptr) throw std::bad_alloc();
  return out;
}

}  // namespace

void* operator new(std::size_t size) {
  return counted(size);
}
void* operator new[](std::size_t size) {
  return counted(size);
}
void operator delete(void* at) noexcept {
  std::free(at);
}
void operator delete[](void* at) noexcept {
  std::free(at);
}
void operator delete(void* at, std::size_t) noexcept {
  std::free(at);
}
void operator delete[](void* at, std::size_t) noexcept {
  std::free(at);
}

namespace jembatan::wire {
namespace {

TEST(Decode, AllocatesNothing) {
  const auto secret = support::secret("laut");
  const Octets octets = support::access_request()
                            .user("sari@reef.example")
                            .password("laut-biru-7")
                            .with("NAS-Identifier", "kerapu-deck-2")
                            .with("NAS-Port-Type", "Wireless-802-11")
                            .signed_with(secret);
  const std::size_t before = allocations;
  const auto packet = PacketView::parse(octets);
  const Signature signature = check_message_authenticator(*packet, packet->authenticator(), secret);
  std::size_t seen = 0;
  for (const Attribute attribute : packet->attributes()) seen += attribute.value.size();
  const auto user = packet->find(AttributeType::user_name);
  const std::size_t after = allocations;
  EXPECT_EQ(after - before, 0U);
  EXPECT_EQ(signature, Signature::valid);
  EXPECT_EQ(text_in(user), "sari@reef.example");
  EXPECT_GT(seen, 0U);
  EXPECT_GT(before, 0U);  // the counting works
}

TEST(Condition, EvaluatingAllocatesNothing) {
  const Octets octets = support::access_request()
                            .user("sari@reef.example")
                            .with("NAS-Port-Type", "Wireless-802-11")
                            .with("NAS-IP-Address", "192.0.2.9")
                            .signed_with(support::secret("laut"));
  const auto packet = *PacketView::parse(octets);
  const std::map<std::string, std::string> labels{{"place", "reef/kerapu"}};
  const std::vector<std::string> groups{"crew"};
  condition::Facts facts;
  facts.packet = &packet;
  facts.catalogue = &dictionary::standard();
  facts.labels = &labels;
  facts.groups = &groups;
  std::vector<condition::Mistake> mistakes;
  const auto condition = condition::Condition::parse(
      R"(member of "crew" and client.label.place under "reef" and NAS-IP-Address in 192.0.2.0/24 and )"
      R"(NAS-Port-Type in (Virtual, Wireless-802-11) and User-Name matches "@reef" and time within "00:00-24:00")",
      dictionary::standard(), mistakes);
  ASSERT_TRUE(condition);
  (void)condition->holds(facts);  // the pattern sets itself up when it is first used
  std::size_t decided_by = 0;
  const std::size_t before = allocations;
  const bool held = condition->holds(facts, &decided_by);
  const std::size_t after = allocations;
  EXPECT_TRUE(held);
  EXPECT_EQ(after - before, 0U);
}

}  // namespace
}  // namespace jembatan::wire
