#include "base/compact.h"

namespace jembatan {

std::uint64_t CompactReader::number() {
  std::uint64_t out = 0;
  for (unsigned shift = 0; shift < 64 && !in_.empty(); shift += 7) {
    const std::uint8_t octet = in_[0];
    in_ = in_.subspan(1);
    out |= std::uint64_t{octet & 0x7FU} << shift;
    if (octet < 0x80U) return out;
  }
  fail();
  return 0;
}

std::int64_t CompactReader::difference() {
  const std::uint64_t bits = number();
  return static_cast<std::int64_t>((bits & 1U) != 0 ? ~(bits >> 1U) : bits >> 1U);
}

OctetView CompactReader::octets() {
  const std::uint64_t size = number();
  if (size > in_.size()) {
    fail();
    return {};
  }
  const OctetView out = in_.first(size);
  in_ = in_.subspan(size);
  return out;
}

}  // namespace jembatan
