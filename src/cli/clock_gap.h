#pragma once
#include <string>

#include "base/clock.h"

namespace jembatan::cli {

/// "the clock of node hub is 7s behind this machine's"; empty if they agree within 2 s, or the Date of an
/// HTTP answer (RFC 9110 §6.6.1), which has whole seconds, cannot be read.
///   before, after  this machine's time when it was asked, and when the answer was there
std::string clock_gap(const std::string& node, const std::string& date, WallTime before, WallTime after);

}  // namespace jembatan::cli
