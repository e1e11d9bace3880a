// A change of a plan that nodes share, as it comes out of its seal: what is read is written the same again.
#include <cstdlib>

#include "revision/agreement.h"

using namespace jembatan;

extern "C" int LLVMFuzzerTestOneInput(const std::uint8_t* data, std::size_t size) {  // NOLINT
  const auto change = revision::unpacked(OctetView(data, size));
  if (!change) return 0;
  const Octets once = revision::packed(*change);
  const auto again = revision::unpacked(once);
  if (!again || revision::packed(*again) != once) std::abort();
  return 0;
}
