#include "condition/hours.h"

#include <date/tz.h>
#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::condition {
namespace {

constexpr std::string_view kDays[] = {"Mon", "Tue", "Wed", "Thu", "Fri", "Sat", "Sun"};

// "07:00" as minutes.
std::optional<int> clock_in(std::string_view text) {
  if (text.size() != 5 || text[2] != ':') return std::nullopt;
  for (const std::size_t at : {0U, 1U, 3U, 4U}) {
    if (text[at] < '0' || text[at] > '9') return std::nullopt;
  }
  const int hour = (text[0] - '0') * 10 + text[1] - '0';
  const int minute = (text[3] - '0') * 10 + text[4] - '0';
  if (hour > 24 || minute > 59 || (hour == 24 && minute != 0)) return std::nullopt;
  return hour * 60 + minute;
}

bool read_days(std::string_view text, Hours& out) {
  out.days = 0;
  for (const std::string_view part : split(text, ',')) {
    const std::size_t dash = part.find('-');
    const auto first = day_named(part.substr(0, dash));
    const auto last = dash == std::string_view::npos ? first : day_named(part.substr(dash + 1));
    if (!first || !last) return false;
    for (int day = *first;; day = (day + 1) % 7) {
      out.days |= static_cast<std::uint8_t>(1U << static_cast<unsigned>(day));
      if (day == *last) break;
    }
  }
  return true;
}

bool read_times(std::string_view text, Hours& out) {
  if (text.size() != 11 || text[5] != '-') return false;
  const auto from = clock_in(text.substr(0, 5));
  const auto to = clock_in(text.substr(6));
  if (!from || !to || *from == *to) return false;
  out.from = *from;
  out.to = *to;
  return true;
}

bool read_offset(std::string_view text, Hours& out) {
  if (text == "UTC") return true;
  if (text.size() != 6 || (text[0] != '+' && text[0] != '-')) return false;
  const auto minutes = clock_in(text.substr(1));
  if (!minutes || *minutes > 14 * 60) return false;
  out.offset = text[0] == '-' ? -*minutes : *minutes;
  return true;
}

std::string zone_text(const Hours& hours) {
  if (hours.zone != nullptr) return hours.zone->name();
  const int offset = hours.offset;
  if (offset == 0) return "UTC";
  const int minutes = offset < 0 ? -offset : offset;
  return fmt::format("{}{:02}:{:02}", offset < 0 ? '-' : '+', minutes / 60, minutes % 60);
}

// In summer another one than in winter.
int offset_at(const Hours& hours, WallTime now) {
  if (hours.zone == nullptr) return hours.offset;
  const auto info = hours.zone->get_info(std::chrono::floor<std::chrono::seconds>(now));
  return static_cast<int>(std::chrono::floor<std::chrono::minutes>(info.offset).count());
}

// The library throws where the system has no such zone, or no database of them.
Result<const date::time_zone*> zone_named(std::string_view name) {
  try {
    const auto& zones = date::get_tzdb().zones;
    Nearest near(name);
    for (const date::time_zone& zone : zones) {
      if (zone.name() == name) return &zone;
      near.consider(zone.name());
    }
    return fail(Errc::not_found,
                fmt::format("'{}' is no time zone; allowed: UTC, +08:00, Asia/Singapore{}", escaped(name),
                            near.best() ? fmt::format("; nearest: '{}'", *near.best()) : ""));
  } catch (const std::exception&) {
    return fail(Errc::not_found,
                "this machine knows no time zones by name (package tzdata); allowed: UTC, +08:00");
  }
}

}  // namespace

std::optional<int> day_named(std::string_view text) {
  for (int i = 0; i < 7; ++i) {
    if (lower(kDays[i]) == lower(text)) return i;
  }
  return std::nullopt;
}

Result<Hours> read_hours(std::string_view text) {
  Hours out;
  const auto parts = split(text, ' ');
  std::size_t at = 0;
  if (at < parts.size() && read_days(parts[at], out)) {
    ++at;
  } else {
    out.days = 0x7F;
  }
  if (at < parts.size() && read_times(parts[at], out)) ++at;
  const bool named = at > 0 && at < parts.size() && !read_offset(parts[at], out);
  if (named && parts[at].find_first_of("0123456789") != 0) {
    const auto zone = zone_named(parts[at]);
    if (!zone) return zone.error();
    out.zone = *zone;
  }
  if (at == 0 || (named && out.zone == nullptr) || at + 1 < parts.size())
    return fail(Errc::malformed, fmt::format("'{}' are no hours", escaped(text)));
  return out;
}

LocalTime local_time(WallTime time, int offset_minutes) {
  const auto minutes =
      std::chrono::duration_cast<std::chrono::minutes>(time.time_since_epoch()).count() + offset_minutes;
  const auto days = minutes / (24 * 60);
  return {static_cast<int>((days + 3) % 7),
          static_cast<int>(minutes % (24 * 60))};  // the epoch was a Thursday
}

bool within(const Hours& hours, WallTime now) {
  const LocalTime local = local_time(now, offset_at(hours, now));
  const auto is_day = [&](int day) { return (hours.days >> day & 1U) != 0; };
  if (hours.from <= hours.to)
    return is_day(local.day) && local.minute >= hours.from && local.minute < hours.to;
  // Over midnight: what begins on a day goes on into the next one.
  if (local.minute >= hours.from) return is_day(local.day);
  return local.minute < hours.to && is_day((local.day + 6) % 7);
}

std::string clock_text(const Hours& hours, WallTime now) {
  const LocalTime local = local_time(now, offset_at(hours, now));
  return fmt::format("{} {:02}:{:02} {}", kDays[local.day], local.minute / 60, local.minute % 60,
                     zone_text(hours));
}

}  // namespace jembatan::condition
