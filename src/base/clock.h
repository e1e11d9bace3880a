#pragma once
// Time comes from outside: read once per datagram or timer turn, then handed down.
#include <chrono>

namespace jembatan {

using TimePoint = std::chrono::steady_clock::time_point;  ///< for waiting; never goes back
using WallTime = std::chrono::system_clock::time_point;   ///< for people and records
using Duration = std::chrono::milliseconds;

struct Now {
  TimePoint steady;
  WallTime wall;
};

class Clock {
 public:
  virtual ~Clock() = default;
  virtual Now now() const = 0;
};

}  // namespace jembatan
