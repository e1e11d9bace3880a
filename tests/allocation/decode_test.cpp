// Decoding allocates nothing: this program counts every allocation.
#include <gtest/gtest.h>

#include <cstdlib>
#include <new>

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

}  // namespace
}  // namespace jembatan::wire
