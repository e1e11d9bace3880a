#pragma once
#include "decide/course.h"

namespace jembatan::decide {

/// What is taken for granted of whom nobody asks.
struct Assumed {
  bool proven = true;                        ///< the credential is right
  Person::Found found = Person::Found::one;  ///< what a directory says
  std::vector<std::string> groups = {};      ///< the same
  bool factors_right = true;                 ///< what second factors would come to
  PersonPtr person = {};                     ///< what a directory has said; null: as `found` and `groups` say
  std::map<std::string, std::string> factors_locked = {};  ///< those whose codes are not looked at, and why
};
inline constexpr std::string_view kAssumptions =
    "proven, refused, factor=refused, directory=down, directory=nobody, group=NAME";
/// Some of kAssumptions, with commas between them; empty: proven.
///   errors  Errc::malformed, with those that are allowed
Result<Assumed> assumed_in(std::string_view text);

struct Explanation {
  enum class Outcome : std::uint8_t { accept, reject, forward, ignore, record, drop } outcome{};
  std::string summary;                    ///< "accepted: an access rule permits ('crew on deck')"
  std::vector<std::string> lines;         ///< each step, in its order, with what it looked at
  std::vector<std::string> factors = {};  ///< second factors that it would be asked for
};
std::string_view name_of(Explanation::Outcome outcome);

/// Takes a request through its course without sending anything, and tells each step.
///   request  as it was received
Explanation explain(const Request& request, const Assumed& assumed);

}  // namespace jembatan::decide
