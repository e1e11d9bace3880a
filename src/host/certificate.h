#pragma once
#include <string_view>

#include "base/clock.h"
#include "base/result.h"

namespace jembatan::host {

/// When the first certificate of a chain expires (RFC 5280 §4.1.2.5).
///   pem     text of a file
///   errors  Errc::malformed: no certificate in it
Result<WallTime> expiry_of(std::string_view pem);

/// "it expired on 2026-11-01", "it expires on 2026-12-01, in 6 days"; empty while there are more than 30.
std::string expiry_text(WallTime expiry, WallTime now);

}  // namespace jembatan::host
