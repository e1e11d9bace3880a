#include "base/text.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <ctime>
#include <numeric>

namespace jembatan {
namespace {

constexpr std::size_t kMostEdits = 3;

char lower_of(char c) {
  return c >= 'A' && c <= 'Z' ? static_cast<char>(c - 'A' + 'a') : c;
}

// Edit distance with swaps of neighbours (optimal string alignment), in lower case; `most` and more are as
// good as any. Three rows of a table that is never longer than kLongestName.
constexpr std::size_t kLongestName = 128;
using Row = std::array<std::size_t, kLongestName + 1>;
std::size_t edits_between(std::string_view a, std::string_view b, std::size_t most) {
  const std::size_t apart = a.size() > b.size() ? a.size() - b.size() : b.size() - a.size();
  if (apart >= most || b.size() > kLongestName) return most;
  Row rows[3];
  Row* before_last = &rows[0];
  Row* last = &rows[1];
  Row* now = &rows[2];
  for (std::size_t j = 0; j <= b.size(); ++j) (*last)[j] = j;
  for (std::size_t i = 1; i <= a.size(); ++i) {
    (*now)[0] = i;
    std::size_t least = i;
    for (std::size_t j = 1; j <= b.size(); ++j) {
      const std::size_t change = a[i - 1] == lower_of(b[j - 1]) ? 0 : 1;
      std::size_t cost = std::min({(*last)[j] + 1, (*now)[j - 1] + 1, (*last)[j - 1] + change});
      if (i > 1 && j > 1 && a[i - 1] == lower_of(b[j - 2]) && a[i - 2] == lower_of(b[j - 1]))
        cost = std::min(cost, (*before_last)[j - 2] + 1);
      (*now)[j] = cost;
      least = std::min(least, cost);
    }
    if (least >= most) return most;
    std::swap(before_last, last);
    std::swap(last, now);
  }
  return (*last)[b.size()];
}

std::size_t display_width(std::string_view text) {
  return static_cast<std::size_t>(std::count_if(
      text.begin(), text.end(), [](char c) { return (static_cast<unsigned char>(c) & 0xC0U) != 0x80U; }));
}

// Length of the well-formed UTF-8 sequence at the front (RFC 3629), 0 if there is none.
std::size_t utf8_sequence(OctetView octets) {
  const std::uint8_t first = octets[0];
  if (first < 0x80) return 1;
  const std::size_t length = first >= 0xF0 ? 4 : first >= 0xE0 ? 3 : 2;
  if (first < 0xC2 || first > 0xF4 || octets.size() < length) return 0;
  for (std::size_t i = 1; i < length; ++i) {
    if ((octets[i] & 0xC0U) != 0x80U) return 0;
  }
  const bool overlong = (first == 0xE0 && octets[1] < 0xA0) || (first == 0xF0 && octets[1] < 0x90);
  const bool surrogate = first == 0xED && octets[1] > 0x9F;
  const bool beyond = first == 0xF4 && octets[1] > 0x8F;
  const bool c1_control = first == 0xC2 && octets[1] < 0xA0;
  return overlong || surrogate || beyond || c1_control ? 0 : length;
}

// Marks that change the order in which text is shown: they make a line of a log look like another.
bool turns_direction(OctetView sequence) {
  if (sequence.size() == 2) return sequence[0] == 0xD8 && sequence[1] == 0x9C;  // U+061C
  if (sequence.size() != 3 || sequence[0] != 0xE2) return false;
  const std::uint8_t last = sequence[2];
  if (sequence[1] == 0x80) return last == 0x8E || last == 0x8F || (last >= 0xA8 && last <= 0xAE);  // U+200E …
  return sequence[1] == 0x81 && last >= 0xA6 && last <= 0xA9;  // U+2066 …
}

bool is_control(std::uint8_t octet) {
  return octet < 0x20 || octet == 0x7F;
}

struct Unit {
  std::string_view name;
  std::int64_t milliseconds;
};
constexpr std::array<Unit, 5> kUnits{
    {{"d", 86'400'000}, {"h", 3'600'000}, {"m", 60'000}, {"s", 1'000}, {"ms", 1}}};

}  // namespace

std::string lower(std::string_view text) {
  std::string out(text);
  for (char& c : out) {
    if (c >= 'A' && c <= 'Z') c = static_cast<char>(c - 'A' + 'a');
  }
  return out;
}

std::string join(const std::vector<std::string>& parts, std::string_view between) {
  return fmt::format("{}", fmt::join(parts, between));
}

std::vector<std::string_view> split(std::string_view text, char at) {
  std::vector<std::string_view> out;
  while (true) {
    const std::size_t found = text.find(at);
    out.push_back(text.substr(0, found));
    if (found == std::string_view::npos) return out;
    text.remove_prefix(found + 1);
  }
}

std::string_view trim(std::string_view text) {
  const auto blank = [](char c) { return c == ' ' || c == '\t' || c == '\r' || c == '\n'; };
  while (!text.empty() && blank(text.front())) text.remove_prefix(1);
  while (!text.empty() && blank(text.back())) text.remove_suffix(1);
  return text;
}

Nearest::Nearest(std::string_view found)
    : wanted_(lower(found.substr(0, kLongestName))),
      fewest_(std::min(kMostEdits, std::max<std::size_t>(1, found.size() / 2)) + 1) {}

void Nearest::consider(std::string_view candidate) {
  const std::size_t edits = edits_between(wanted_, candidate, fewest_);
  if (edits >= fewest_) return;
  fewest_ = edits;
  best_ = candidate;
  any_ = true;
}

std::optional<std::string> Nearest::best() const {
  return any_ ? std::optional(best_) : std::nullopt;
}

std::optional<std::string> nearest(std::string_view found, const std::vector<std::string>& candidates) {
  Nearest out(found);
  for (const std::string& candidate : candidates) out.consider(candidate);
  return out.best();
}

std::string escaped(OctetView octets) {
  const bool plain = std::all_of(octets.begin(), octets.end(), [](std::uint8_t octet) {
    return octet >= 0x20 && octet < 0x7F && octet != '\\';
  });
  if (plain) return std::string(text_of(octets));
  std::string out;
  out.reserve(octets.size());
  for (std::size_t i = 0; i < octets.size();) {
    const std::size_t length = utf8_sequence(octets.subspan(i));
    if (length == 0 || (length == 1 && is_control(octets[i]))) {
      out += fmt::format("\\x{:02x}", octets[i]);
      ++i;
    } else if (turns_direction(octets.subspan(i, length))) {
      for (const std::uint8_t octet : octets.subspan(i, length)) out += fmt::format("\\x{:02x}", octet);
      i += length;
    } else if (octets[i] == '\\') {
      out += "\\\\";
      ++i;
    } else {
      out += text_of(octets.subspan(i, length));
      i += length;
    }
  }
  return out;
}

Octets unescaped(std::string_view text) {
  Octets out;
  for (std::size_t i = 0; i < text.size(); ++i) {
    const bool hex = text.substr(i).starts_with("\\x") && i + 3 < text.size();
    const auto octet = hex ? from_hex(text.substr(i + 2, 2)) : Result<Octets>(Octets{});
    if (octet && octet->size() == 1) {
      out.push_back((*octet)[0]);
      i += 3;
    } else {
      out.push_back(static_cast<std::uint8_t>(text[i]));
      if (text.substr(i).starts_with("\\\\")) ++i;
    }
  }
  return out;
}

std::string json_quoted(std::string_view text) {
  std::string out = "\"";
  for (const char c : is_plain_text(view_of(text)) ? std::string(text) : escaped(text)) {
    if (c == '"' || c == '\\') out += '\\';
    out += c;
  }
  return out + '"';
}

bool is_plain_text(OctetView octets) {
  for (std::size_t i = 0; i < octets.size();) {
    const std::size_t length = utf8_sequence(octets.subspan(i));
    if (length == 0 || (length == 1 && is_control(octets[i])) || turns_direction(octets.subspan(i, length)))
      return false;
    i += length;
  }
  return true;
}

Result<Duration> parse_duration(std::string_view text) {
  const auto wrong = [text] {
    return fail(Errc::malformed,
                fmt::format("'{}' is not a duration; allowed: like 250ms, 30s, 5m, 12h, 1h30m", text));
  };
  constexpr std::int64_t kLongest = 36525LL * 24 * 3600 * 1000;  // can be added to any time
  std::int64_t total = 0;
  std::string_view rest = text;
  if (rest.empty()) return wrong();
  while (!rest.empty()) {
    std::int64_t number = 0;
    const auto [end, problem] = std::from_chars(rest.data(), rest.data() + rest.size(), number);
    if (problem != std::errc{} || number < 0 || number > 1'000'000'000) return wrong();
    rest.remove_prefix(static_cast<std::size_t>(end - rest.data()));
    std::size_t letters = 0;
    while (letters < rest.size() && (rest[letters] < '0' || rest[letters] > '9')) ++letters;
    const auto unit = std::find_if(kUnits.begin(), kUnits.end(),
                                   [&](const Unit& u) { return u.name == rest.substr(0, letters); });
    if (unit == kUnits.end()) return wrong();
    total += number * unit->milliseconds;
    if (total > kLongest)
      return fail(Errc::malformed, fmt::format("'{}' is more than a hundred years", text));
    rest.remove_prefix(letters);
  }
  return Duration(total);
}

std::string text_of(Duration duration) {
  std::int64_t left = duration.count();
  if (left == 0) return "0s";
  std::string out;
  for (const Unit& unit : kUnits) {
    if (left < unit.milliseconds) continue;
    out += fmt::format("{}{}", left / unit.milliseconds, unit.name);
    left %= unit.milliseconds;
  }
  return out;
}

std::string text_of(WallTime time) {
  using namespace std::chrono;
  const auto since = duration_cast<milliseconds>(time.time_since_epoch());
  const auto whole = floor<seconds>(since);
  const std::time_t stamp = whole.count();
  std::tm parts{};
  gmtime_r(&stamp, &parts);
  return fmt::format("{:04}-{:02}-{:02}T{:02}:{:02}:{:02}.{:03}Z", parts.tm_year + 1900, parts.tm_mon + 1,
                     parts.tm_mday, parts.tm_hour, parts.tm_min, parts.tm_sec, (since - whole).count());
}

std::string second_text(WallTime time) {
  std::string out = text_of(time);
  out[10] = ' ';
  return out.substr(0, 19) + "Z";
}

namespace {

// "Z", "+08:00" behind a time, as what it is ahead of UTC.
std::optional<std::chrono::minutes> offset_in(std::string_view text) {
  if (text == "Z" || text == "z") return std::chrono::minutes(0);
  const auto digit = [&](std::size_t at) { return text[at] >= '0' && text[at] <= '9'; };
  if (text.size() != 6 || (text[0] != '+' && text[0] != '-') || text[3] != ':' || !digit(1) || !digit(2) ||
      !digit(4) || !digit(5))
    return std::nullopt;
  const int minutes = (text[1] - '0') * 600 + (text[2] - '0') * 60 + (text[4] - '0') * 10 + text[5] - '0';
  return std::chrono::minutes(text[0] == '-' ? -minutes : minutes);
}

// Years that no clock is in would leave the range of WallTime.
std::optional<WallTime> time_of(std::tm parts) {
  constexpr int kFirstYear = 1900;
  constexpr int kYears = 300;
  if (parts.tm_year < 0 || parts.tm_year >= kYears) return std::nullopt;  // tm_year counts from kFirstYear
  static_assert(kFirstYear + kYears < 2262);
  return std::chrono::system_clock::from_time_t(timegm(&parts));
}

// The whole text by a format of strptime, UTC.
std::optional<WallTime> time_by(const std::string& text, const char* format) {
  std::tm parts{};
  const char* rest = strptime(text.c_str(), format, &parts);
  return rest == nullptr || *rest != '\0' ? std::nullopt : time_of(parts);
}

}  // namespace

Result<WallTime> parse_time(std::string_view text) {
  std::tm parts{};
  const std::string copy(text);
  const char* rest = strptime(copy.c_str(), "%Y-%m-%dT%H:%M:%S", &parts);
  if (rest == nullptr) {
    return fail(Errc::malformed, fmt::format("'{}' is not a time; allowed: like 2026-01-02T03:04:05Z", text));
  }
  int milliseconds = 0;
  if (*rest == '.') {
    int weight = 100;
    for (++rest; *rest >= '0' && *rest <= '9'; ++rest, weight /= 10) milliseconds += (*rest - '0') * weight;
  }
  const auto offset = offset_in(rest);
  if (!offset)
    return fail(Errc::malformed,
                fmt::format("'{}' does not say its zone; allowed: Z (UTC) at its end, or like +08:00", text));
  const auto time = time_of(parts);
  if (!time) return fail(Errc::malformed, fmt::format("'{}': allowed: the years 1900 to 2199", text));
  return *time + std::chrono::milliseconds(milliseconds) - *offset;
}

Result<WallTime> parse_moment(std::string_view text, WallTime now, Count count) {
  using Days = std::chrono::duration<std::int64_t, std::ratio<24L * 3600>>;
  const std::string copy(text);
  if (const auto time = parse_time(text)) return *time;
  for (const char* format : {"%Y-%m-%d", "%Y-%m-%d %H:%M", "%Y-%m-%d %H:%M:%S", "%Y-%m-%d %H:%M:%SZ"})
    if (const auto time = time_by(copy, format)) return *time;
  for (const char* format : {"%H:%M", "%H:%M:%S"}) {
    std::tm parts{};
    const char* rest = strptime(copy.c_str(), format, &parts);
    if (rest == nullptr || *rest != '\0') continue;
    WallTime out = std::chrono::floor<Days>(now) + std::chrono::hours(parts.tm_hour) +
                   std::chrono::minutes(parts.tm_min) + std::chrono::seconds(parts.tm_sec);
    if (count == Count::back && out > now) out -= Days(1);
    if (count == Count::ahead && out < now) out += Days(1);
    return out;
  }
  if (const auto length = parse_duration(text)) return count == Count::back ? now - *length : now + *length;
  return fail(Errc::malformed,
              fmt::format("'{}' is no time; allowed: 10m ({}), 04:30, 2026-11-23, 2026-11-23 04:30 (UTC), "
                          "2026-11-23T04:30:00+08:00",
                          escaped(text), count == Count::back ? "that long ago" : "from now on"));
}

std::string clock_text(WallTime time) {
  const std::time_t stamp = std::chrono::system_clock::to_time_t(time);
  std::tm parts{};
  localtime_r(&stamp, &parts);
  return fmt::format("{:02}:{:02}:{:02}", parts.tm_hour, parts.tm_min, parts.tm_sec);
}

std::string counted(std::size_t count, std::string_view noun) {
  if (count == 1) return fmt::format("1 {}", noun);
  const bool hissing = noun.ends_with('s') || noun.ends_with('x') || noun.ends_with("ch");
  return fmt::format("{} {}{}", count, noun, hissing ? "es" : "s");
}

std::string with_article(std::string_view noun) {
  const bool vowel = !noun.empty() && std::string_view("aeio").find(noun[0]) != std::string_view::npos;
  return fmt::format("{} {}", vowel ? "an" : "a", noun);
}

std::string cut(std::string_view text, std::size_t most) {
  if (display_width(text) <= most || most == 0) return std::string(text);
  std::size_t end = 0;
  for (std::size_t shown = 0; end < text.size(); ++end) {
    const bool begins = (static_cast<unsigned char>(text[end]) & 0xC0U) != 0x80U;
    if (begins && ++shown == most) break;
  }
  return std::string(text.substr(0, end)) + "…";
}

std::vector<std::string> wrapped(std::string_view text, std::size_t most) {
  std::vector<std::string> out{""};
  for (const std::string_view word : split(text, ' ')) {
    std::string& line = out.back();
    if (line.empty()) {
      line = word;
    } else if (display_width(line) + 1 + display_width(word) <= most) {
      line += ' ';
      line += word;
    } else {
      out.emplace_back(word);
    }
  }
  return out;
}

// What the last column gets at least, and the narrowest that others are cut to.
constexpr std::size_t kLastColumn = 24;
constexpr std::size_t kNarrowest = 10;

// Numbers, times and addresses say nothing when they are cut.
bool may_be_cut(std::string_view cell) {
  return cell.find_first_not_of("0123456789:-. /") != std::string_view::npos;
}

std::vector<std::size_t> Table::widths(std::size_t most) const {
  std::vector<std::size_t> out;
  std::vector<std::size_t> least;  // of its cells, without the heading; of those that may be cut, less
  for (const auto& row : rows_) {
    out.resize(std::max(out.size(), row.size()));
    least.resize(out.size());
    for (std::size_t i = 0; i < row.size(); ++i) {
      const std::size_t width = display_width(row[i]);
      out[i] = std::max(out[i], width);
      if (&row != &rows_.front())
        least[i] = std::max(least[i], may_be_cut(row[i]) ? std::min(width, kNarrowest) : width);
    }
  }
  const auto total = [&out] { return std::accumulate(out.begin(), out.end(), 2 * (out.size() - 1)); };
  if (out.empty() || most == kAnyWidth) return out;
  for (std::size_t i = 0; i + 1 < out.size() && total() > most; ++i) {  // headings first
    std::size_t cells = kNarrowest;
    for (std::size_t r = 1; r < rows_.size(); ++r)
      if (i < rows_[r].size()) cells = std::max(cells, display_width(rows_[r][i]));
    out[i] = std::min(out[i], std::max(cells, out[i] - std::min(out[i], total() - most)));
  }
  if (total() <= most) return out;
  out.back() = std::min(out.back(), std::max(kLastColumn, most - std::min(most, total() - out.back())));
  while (total() > most) {
    std::size_t widest = out.size();
    for (std::size_t i = 0; i + 1 < out.size(); ++i)
      if (out[i] > std::max(least[i], kNarrowest) && (widest == out.size() || out[i] > out[widest]))
        widest = i;
    if (widest == out.size()) break;
    --out[widest];
  }
  return out;
}

std::string Table::text(std::size_t most) const {
  const std::vector<std::size_t> widths = this->widths(most);
  std::string out;
  for (const auto& row : rows_) {
    std::string line;
    std::size_t indent = 0;
    for (std::size_t i = 0; i + 1 < row.size(); ++i) {
      const std::string cell = cut(row[i], widths[i]);
      line += cell;
      line.append(widths[i] - display_width(cell) + 2, ' ');
      indent += widths[i] + 2;
    }
    const auto parts =
        row.empty() ? std::vector<std::string>{""} : wrapped(row.back(), widths[row.size() - 1]);
    for (std::size_t i = 0; i < parts.size(); ++i) {
      if (i > 0) line.assign(indent, ' ');
      line += cut(parts[i], row.empty() ? 0 : widths[row.size() - 1]);
      line.erase(line.find_last_not_of(' ') + 1);
      out += line + '\n';
    }
  }
  return out;
}

}  // namespace jembatan
