#pragma once
// What came of a rehearsal's step, beside what was expected.
#include <cstdint>
#include <map>

#include "base/clock.h"
#include "dictionary/describe.h"
#include "rehearsal/case.h"

namespace jembatan::cli {

/// What came of one request.
struct Came {
  std::string code = "none";  ///< of the last genuine reply
  std::string problem;        ///< why there is none; may be empty
  std::vector<dictionary::Described> lines;
  std::chrono::microseconds took{0};
  std::uint64_t leg = 0;  ///< wire::leg_of the last request
};

/// What differs in one answer: "expected Access-Reject, came Access-Accept"; nothing if all is as expected.
///   errors  Errc::malformed, Errc::not_found: an attribute or value that the dictionaries do not know
Result<std::vector<std::string>> differences(const rehearsal::Expectation& expected, const Came& came,
                                             const dictionary::Catalogue& names);

/// What differs in how requests were shared: "reef-homes/reef-1 got 61.0 % of 200, expected 75 % ± 1".
///   got  requests, by "GROUP/SERVER"
std::vector<std::string> share_differences(const rehearsal::Expectation& expected,
                                           const std::map<std::string, std::uint64_t>& got);

}  // namespace jembatan::cli
