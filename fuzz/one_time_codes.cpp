// What is kept of one-time codes, as octets, and a code and a secret as somebody types them.
#include <cstdlib>

#include "identity/one_time_code.h"

using namespace jembatan;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {  // NOLINT
  const OctetView octets(data, size);
  if (const auto page = identity::unpacked_page(octets)) {
    const auto again = identity::unpacked_page(identity::packed(*page));
    if (!again || *again != *page) std::abort();
    (void)identity::merged(*page, *again);
  }
  const auto key = identity::from_base32(text_of(octets));
  if (key && key->size() <= identity::kMostKey && *identity::from_base32(identity::to_base32(*key)) != *key)
    std::abort();
  identity::Token token;
  token.key = Secret("12345678901234567890");
  identity::CodePage kept;
  const auto verdict =
      identity::judge(kept, {&token, 1}, text_of(octets), {}, WallTime(std::chrono::seconds(59)));
  if (verdict.is_right() && size < 6) std::abort();
  return 0;
}
