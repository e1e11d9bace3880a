#include "base/text.h"

#include <fmt/format.h>

#include <algorithm>
#include <array>
#include <charconv>
#include <ctime>

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
  if (std::string_view(rest) != "Z") {
    return fail(Errc::malformed, fmt::format("'{}' does not end in Z; allowed: times in UTC", text));
  }
  return std::chrono::system_clock::from_time_t(timegm(&parts)) + std::chrono::milliseconds(milliseconds);
}

std::string clock_text(WallTime time) {
  const std::time_t stamp = std::chrono::system_clock::to_time_t(time);
  std::tm parts{};
  localtime_r(&stamp, &parts);
  return fmt::format("{:02}:{:02}:{:02}", parts.tm_hour, parts.tm_min, parts.tm_sec);
}

std::string Table::text() const {
  std::vector<std::size_t> widths;
  for (const auto& row : rows_) {
    widths.resize(std::max(widths.size(), row.size()));
    for (std::size_t i = 0; i < row.size(); ++i) widths[i] = std::max(widths[i], display_width(row[i]));
  }
  std::string out;
  for (const auto& row : rows_) {
    std::string line;
    for (std::size_t i = 0; i < row.size(); ++i) {
      line += row[i];
      if (i + 1 < row.size()) line.append(widths[i] - display_width(row[i]) + 2, ' ');
    }
    line.erase(line.find_last_not_of(' ') + 1);
    out += line + '\n';
  }
  return out;
}

}  // namespace jembatan
