#pragma once
// Many requests at once, and how long their answers took.
#include <functional>
#include <map>

#include "cli/question.h"

namespace jembatan::cli {

struct LoadWish {
  double rate = 0;          ///< requests a second, however many wait (an open loop); 0: `window` at a time
  std::size_t window = 16;  ///< so many wait at a time (a closed loop)
  Duration lasts{10000};
  Duration wait{5000};      ///< for each answer; nothing is sent twice
  std::size_t sockets = 4;  ///< source ports, each with 256 Identifiers
  unsigned accounting_percent = 0;
};

/// What came of the requests that were due in one second.
struct LoadSecond {
  std::uint64_t sent = 0;
  std::map<std::string, std::uint64_t> outcomes;  ///< "Access-Accept", "no answer", "not genuine"
  std::vector<std::uint32_t> took;                ///< microseconds from when each was due
};

struct LoadResult {
  std::vector<LoadSecond> seconds;
  std::uint64_t held_back = 0;  ///< that were due when all Identifiers were in use: sent late, and so counted
};

/// Asks sign-ins (each in turn), and accounting as far as wished, until the time is over and all have ended.
/// Times count from when a request was due, not from when it could be sent: a server that stops is not
/// spared.
///   progress  called about once a second with what came so far
///   errors    Errc::io: a socket
Result<LoadResult> run_load(const LoadWish& wish, const std::vector<Question>& sign_ins,
                            const std::vector<Question>& records,
                            const std::function<void(const LoadResult&)>& progress);

/// Of all seconds together.
struct LoadSum {
  std::uint64_t requests = 0;
  std::map<std::string, std::uint64_t> outcomes;
  std::vector<std::uint32_t> took;  ///< in order
  /// The time within which that part of the answers came; 0 if there were none.
  std::uint32_t within(double part) const;
};
LoadSum sum_of(const LoadResult& result);

}  // namespace jembatan::cli
