#pragma once
#include "decide/decide.h"

namespace jembatan::decide {

/// What is taken for granted about the password: it is not in the request.
enum class Assume : std::uint8_t { proven, refused };

struct Explanation {
  enum class Outcome : std::uint8_t { accept, reject, forward, ignore, record } outcome{};
  std::string summary;             ///< "accepted: an access rule permits ('crew on deck')"
  std::vector<std::string> lines;  ///< each step, in its order, with what it looked at
};
std::string_view name_of(Explanation::Outcome outcome);

/// Decides a request as the server would, without sending anything.
Explanation explain(const plan::Plan& plan, const Request& request, Assume assume);

}  // namespace jembatan::decide
