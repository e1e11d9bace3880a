#pragma once
#include <span>
#include <vector>

#include "accounting/store.h"

namespace jembatan::accounting {

/// Records on their way in as few octets, with a checksum over all of them.
Octets packed(std::span<const Incoming> records);

/// Reads what packed() wrote.
///   errors  Errc::malformed: damaged
Result<std::vector<Incoming>> unpacked(OctetView octets);

}  // namespace jembatan::accounting
