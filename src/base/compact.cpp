#include "base/compact.h"

#include <cstdlib>

namespace jembatan {
namespace {

std::int64_t milliseconds_of(WallTime time) {
  return std::chrono::floor<std::chrono::milliseconds>(time.time_since_epoch()).count();
}

}  // namespace

void CompactWriter::moment(WallTime time, WallTime from) {
  difference(milliseconds_of(time) - milliseconds_of(from));
}

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

WallTime CompactReader::moment(WallTime from) {
  constexpr std::int64_t kMost = std::int64_t{1000} << 32U;
  const std::int64_t away = difference();
  if (away >= -kMost && away <= kMost) {
    const std::int64_t out = milliseconds_of(from) + away;
    if (std::abs(out) <= kMost) return WallTime(std::chrono::milliseconds(out));
  }
  fail();
  return {};
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
