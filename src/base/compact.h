#pragma once
// Numbers and texts as few octets.
#include <array>

#include "base/clock.h"
#include "base/octets.h"

namespace jembatan {

/// Appends to octets: numbers with 7 bits an octet, the lowest first; texts behind their length.
class CompactWriter {
 public:
  explicit CompactWriter(Octets& out) : out_(out) {}

  void number(std::uint64_t value) {
    std::array<std::uint8_t, 10> octets;
    std::size_t size = 0;
    for (; value >= 0x80U; value >>= 7U) octets[size++] = static_cast<std::uint8_t>(value | 0x80U);
    octets[size++] = static_cast<std::uint8_t>(value);
    out_.insert(out_.end(), octets.data(), octets.data() + size);
  }
  /// Small numbers of either sign become few octets.
  void difference(std::int64_t value) {
    const auto bits = static_cast<std::uint64_t>(value);
    number(value < 0 ? ~(bits << 1U) : bits << 1U);
  }
  /// To the millisecond.
  void moment(WallTime time, WallTime from = {});
  void octets(OctetView value) {
    number(value.size());
    append(out_, value);
  }
  void text(std::string_view value) { octets(view_of(value)); }

 private:
  Octets& out_;
};

/// Reads what a CompactWriter wrote. What is beyond the end, or no such number, is 0 or empty, and ok() is
/// false from then on.
class CompactReader {
 public:
  explicit CompactReader(OctetView in) : in_(in) {}

  std::uint64_t number();
  std::int64_t difference();
  /// A time within 2^32 s (136 years) of 1970; no clock and no packet tells another.
  WallTime moment(WallTime from = {});
  OctetView octets();
  std::string_view text() { return text_of(octets()); }

  bool ok() const { return ok_; }
  bool at_end() const { return in_.empty(); }
  void fail() {
    ok_ = false;
    in_ = {};
  }

 private:
  OctetView in_;
  bool ok_ = true;
};

}  // namespace jembatan
