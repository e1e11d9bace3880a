// An operator's condition: read, and evaluated over a packet.
#include "condition/condition.h"

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {
  using namespace jembatan;
  static const Octets octets = *from_hex(
      "0107003a000102030405060708090a0b0c0d0e0f"  // Access-Request
      "0106736172693d0600000013"                  // User-Name, NAS-Port-Type
      "0406c0000228"                              // NAS-IP-Address
      "0b06637265770b066465636b"                  // Filter-Id twice
      "1a0800007ed90102");                        // Vendor-Specific of 32473
  static const auto packet = wire::PacketView::parse(octets);
  condition::Facts facts;
  facts.packet = packet ? &*packet : nullptr;
  facts.catalogue = &dictionary::standard();
  facts.user = "sari";
  std::vector<condition::Mistake> mistakes;
  const auto condition =
      condition::Condition::parse(text_of(OctetView(data, size)), dictionary::standard(), mistakes);
  if (!condition || facts.packet == nullptr) return 0;
  std::size_t decided_by = 0;
  (void)condition->holds(facts, &decided_by);
  for (const auto& test : condition->tests()) {
    (void)condition->text_of(test);
    (void)condition::actual_text(test, facts);
  }
  return 0;
}
