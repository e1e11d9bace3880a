#pragma once
// Hours of the week, as conditions ask for them.
#include <optional>
#include <string_view>

#include "base/clock.h"
#include "base/result.h"

namespace date {
class time_zone;
}

namespace jembatan::condition {

/// "Mon-Fri 07:00-19:00 +08:00", "22:00-04:00 Asia/Singapore": days and minutes of the day, and how far local
/// time is from UTC.
struct Hours {
  std::uint8_t days = 0x7F;               ///< bit 0: Monday
  int from = 0;                           ///< minutes from midnight
  int to = 24 * 60;                       ///< not included; before `from`: over midnight
  int offset = 0;                         ///< minutes east of UTC
  const date::time_zone* zone = nullptr;  ///< a named zone (the IANA time zone database) instead
};

/// Monday is 0; minutes from midnight.
struct LocalTime {
  int day = 0;
  int minute = 0;
};
LocalTime local_time(WallTime time, int offset_minutes);

/// "Mon" is 0; letter case does not matter.
std::optional<int> day_named(std::string_view text);

/// Reads DAYS, FROM-TO and ZONE, of which one of the first two may be left out, and the last.
///   errors  Errc::malformed; Errc::not_found: a zone that is not in the system's database, with the nearest
Result<Hours> read_hours(std::string_view text);

bool within(const Hours& hours, WallTime now);

/// "Mon 08:30 +08:00", in the hours' zone; "Mon 00:30 UTC"; "Mon 08:30 Asia/Singapore".
std::string clock_text(const Hours& hours, WallTime now);

}  // namespace jembatan::condition
