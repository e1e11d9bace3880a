#pragma once
#include <map>
#include <optional>
#include <string>

#include "base/clock.h"
#include "base/guarded.h"

namespace jembatan::engine {

/// How sending accounting on to groups goes, since the node started. Any thread.
class Progress {
 public:
  struct OfGroup {
    std::uint64_t acknowledged = 0;
    std::optional<WallTime> last;  ///< acknowledgement
    double per_second = 0;         ///< acknowledgements, of the last seconds
    std::string problem;           ///< why the last attempt failed, if none was acknowledged after it
    std::optional<WallTime> problem_since;
  };
  void acknowledged(const std::string& group, Now now);
  void failed(const std::string& group, const std::string& why, Now now);
  std::map<std::string, OfGroup> all(Now now) const;

 private:
  struct Kept {
    OfGroup told;
    TimePoint counted{};  ///< when per_second was right
  };
  static double decayed(const Kept& kept, TimePoint now);
  mutable Guarded<std::map<std::string, Kept>> groups_;
};

}  // namespace jembatan::engine
