#pragma once
// Text for people: names nearest to a misspelt one, escaping, durations, times, tables.
#include <chrono>
#include <optional>
#include <string>
#include <string_view>
#include <vector>

#include "base/clock.h"
#include "base/octets.h"

namespace jembatan {

std::string lower(std::string_view text);  ///< ASCII letters only
std::string join(const std::vector<std::string>& parts, std::string_view between);
std::vector<std::string_view> split(std::string_view text, char at);
std::string_view trim(std::string_view text);

/// The candidate within three edits (insert, delete, replace, swap; letter case costs nothing) that is
/// nearest.
std::optional<std::string> nearest(std::string_view found, const std::vector<std::string>& candidates);

/// The same, of candidates that are shown to it one by one: they need not be copied.
class Nearest {
 public:
  explicit Nearest(std::string_view found);
  void consider(std::string_view candidate);
  std::optional<std::string> best() const;

 private:
  std::string wanted_;
  std::size_t fewest_;
  std::string best_;
  bool any_ = false;
};

/// Octets from outside made safe to print: UTF-8 stays; control characters, those that turn the direction of
/// writing (Unicode UAX #9), bad octets and backslashes become \xNN or \\.
std::string escaped(OctetView octets);
inline std::string escaped(std::string_view text) {
  return escaped(view_of(text));
}

/// Takes back what escaped() did: \\xNN and \\\\; any other backslash stays.
Octets unescaped(std::string_view text);

/// The text in quotes, as JSON wants it (RFC 8259 §7); bad octets are escaped as in escaped().
std::string json_quoted(std::string_view text);

/// True if the octets are well-formed UTF-8 without control characters.
bool is_plain_text(OctetView octets);

/// "250ms", "30s", "5m", "12h", "2d"; a sum like "1h30m" is allowed.
Result<Duration> parse_duration(std::string_view text);
std::string text_of(Duration duration);  ///< the shortest form that parse_duration reads back

/// RFC 3339, UTC, with milliseconds: "2026-01-02T03:04:05.678Z".
std::string text_of(WallTime time);
std::string second_text(WallTime time);  ///< the same to the second, for sentences: "2026-01-02 03:04:05Z"
/// Reads what text_of(WallTime) writes, with or without a fraction.
Result<WallTime> parse_time(std::string_view text);
/// Local time of day for one-line views: "03:04:05".
std::string clock_text(WallTime time);

/// A moment as people write it: "10m" (that long ago), "04:30" (the last one, UTC), "2026-11-23" (its first
/// moment, UTC), "2026-11-23 04:30", or RFC 3339 with Z or an offset. With Count::ahead, "10m" is that far
/// ahead, and "04:30" the next one.
///   errors  Errc::malformed, with these forms
enum class Count : std::uint8_t { back, ahead };
Result<WallTime> parse_moment(std::string_view text, WallTime now, Count count = Count::back);

/// "1 realm", "2 realms", "2 classes".
std::string counted(std::size_t count, std::string_view noun);
/// "an access rule", "a realm".
std::string with_article(std::string_view noun);

/// At most so many characters: what is longer ends in "…".
std::string cut(std::string_view text, std::size_t most);
/// Lines of at most so many characters, broken between words; a word that is longer stands alone.
std::vector<std::string> wrapped(std::string_view text, std::size_t most);

/// Rows under a heading, columns padded to their widest cell, two spaces between; the last is not padded.
class Table {
 public:
  static constexpr std::size_t kAnyWidth = ~std::size_t{0};
  explicit Table(std::vector<std::string> heading) : rows_{std::move(heading)} {}
  void add(std::vector<std::string> row) { rows_.push_back(std::move(row)); }
  bool empty() const { return rows_.size() == 1; }
  /// In at most so many characters a row: the last column, if it has words, goes on below itself, then the
  /// widest of the others are cut.
  std::string text(std::size_t most = kAnyWidth) const;

 private:
  std::vector<std::size_t> widths(std::size_t most) const;
  std::vector<std::vector<std::string>> rows_;
};

}  // namespace jembatan
