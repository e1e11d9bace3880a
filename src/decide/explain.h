#pragma once
#include "decide/course.h"

namespace jembatan::decide {

/// What is taken for granted about a credential that nobody looks at.
enum class Assume : std::uint8_t { proven, refused };

struct Explanation {
  enum class Outcome : std::uint8_t { accept, reject, forward, ignore, record, drop } outcome{};
  std::string summary;             ///< "accepted: an access rule permits ('crew on deck')"
  std::vector<std::string> lines;  ///< each step, in its order, with what it looked at
};
std::string_view name_of(Explanation::Outcome outcome);

/// Takes a request through its course without sending anything, and tells each step.
///   request  as it was received
Explanation explain(const Request& request, Assume assume);

}  // namespace jembatan::decide
