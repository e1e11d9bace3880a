#pragma once
#include <string>
#include <string_view>
#include <utility>

#include "base/octets.h"

namespace jembatan {

/// A text that must not be printed: it has no formatter, no stream operator, and is overwritten when it goes.
class Secret {
 public:
  Secret() = default;
  explicit Secret(std::string_view text) : octets_(octets_of(text)) {}
  Secret(const Secret&) = default;
  Secret(Secret&&) noexcept = default;
  Secret& operator=(Secret other) noexcept {
    octets_.swap(other.octets_);
    return *this;
  }
  ~Secret() { wipe(octets_); }

  OctetView reveal() const { return octets_; }
  bool empty() const { return octets_.empty(); }
  bool operator==(const Secret& other) const { return equal_in_constant_time(octets_, other.octets_); }

 private:
  Octets octets_;
};

}  // namespace jembatan
