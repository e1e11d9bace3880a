#include "accounting/ledger_file.h"

#include <fmt/format.h>

#include <charconv>

#include "base/text.h"

namespace jembatan::accounting {
namespace {

constexpr std::string_view kFirstLine =
    "# accounting ledger 1: key, digest, milliseconds of event and arrival";
constexpr std::string_view kNode = "node ";
constexpr std::string_view kSince = "since ";
constexpr std::string_view kUntil = "until ";
constexpr std::string_view kSalt = "salt ";
constexpr std::string_view kRecords = "records";
constexpr std::string_view kEnd = "end ";
static_assert(kNode.size() == kSalt.size() && kSince.size() == kUntil.size());
constexpr std::size_t kLongestText = 200;  // of a name or a salt, without what is escaped
constexpr std::size_t kLongestLine = 2000;
constexpr std::int64_t kLatest = std::int64_t{1000} << 32U;  // ms: what 32 bits of seconds can tell

std::int64_t since_1970(WallTime time) {
  return std::chrono::floor<std::chrono::milliseconds>(time.time_since_epoch()).count();
}

class LedgerReader {
 public:
  explicit LedgerReader(std::string_view text) : text_(text) {}

  Result<LedgerFile> read() {
    if (next() != kFirstLine) return wrong(1, fmt::format("no ledger: it begins with '{}'", kFirstLine));
    for (std::string_view line = next(); line != kRecords; line = next())
      if (const Status read = heading(line); !read) return read.error();
    for (;;) {
      const std::string_view line = next();
      if (line.empty() && text_.empty()) return wrong(1, "the file was cut: its end is missing");
      if (line.starts_with(kEnd)) return ended(line.substr(kEnd.size()));
      if (out_.entries.size() >= kMostInFile)
        return wrong(1, fmt::format("more than {} entries", kMostInFile));
      if (const Status read = entry(line); !read) return read.error();
    }
  }

 private:
  // A line without its end; empty behind the last.
  std::string_view next() {
    ++line_;
    const std::size_t end = std::min(text_.find('\n'), text_.size());
    const std::string_view out = text_.substr(0, end);
    text_.remove_prefix(std::min(end + 1, text_.size()));
    return out;
  }

  Error wrong(std::size_t column, const std::string& what) const {
    return fail(Errc::malformed, what).at(fmt::format("{}:{}", line_, column));
  }

  Status heading(std::string_view line) {
    if (line.size() > kLongestLine) return wrong(kLongestLine, "a line that is too long");
    if (line.starts_with(kNode) || line.starts_with(kSalt)) {
      const std::string_view text = line.substr(kNode.size());
      if (text.size() > kLongestText || !is_plain_text(view_of(text)))
        return wrong(kNode.size() + 1, fmt::format("no plain text of {} characters at most", kLongestText));
      if (line.starts_with(kNode)) {
        out_.heading.node = text;
      } else {
        out_.heading.salt = text;
      }
    } else if (line.starts_with(kSince) || line.starts_with(kUntil)) {
      const auto time = parse_time(line.substr(kSince.size()));
      if (!time) return wrong(kSince.size() + 1, time.error().text);
      (line.starts_with(kSince) ? out_.heading.since : out_.heading.until) = *time;
    } else {
      return wrong(1, fmt::format("'{}'; allowed: node, since, until, salt, records", escaped(line)));
    }
    return {};
  }

  Status entry(std::string_view line) {
    const std::size_t size = line.size();
    const auto column = [&] { return size - line.size() + 1; };
    Entry one;
    for (Digest* digest : {&one.key, &one.digest}) {
      const auto octets = from_hex(line.substr(0, 2 * digest->size()));
      if (!octets || octets->size() != digest->size())
        return wrong(column(), "no digest of 32 hexadecimal digits");
      std::copy(octets->begin(), octets->end(), digest->begin());
      line.remove_prefix(2 * digest->size());
      if (!line.starts_with(' ')) return wrong(column(), "a space is missing");
      line.remove_prefix(1);
    }
    for (WallTime* time : {&one.event_time, &one.received}) {
      std::int64_t ms = 0;
      const auto [end, failed] = std::from_chars(line.data(), line.data() + line.size(), ms);
      if (failed != std::errc() || ms < -kLatest || ms > kLatest)
        return wrong(column(), "no time in milliseconds");
      *time = WallTime(std::chrono::milliseconds(ms));
      line.remove_prefix(static_cast<std::size_t>(end - line.data()));
      if (time == &one.event_time && line.starts_with(' ')) line.remove_prefix(1);
    }
    if (!line.empty()) return wrong(column(), "something behind the times");
    out_.entries.push_back(one);
    return {};
  }

  Result<LedgerFile> ended(std::string_view count) {
    if (count != std::to_string(out_.entries.size()))
      return wrong(kEnd.size() + 1,
                   fmt::format("it ends after {} records and says {}", out_.entries.size(), escaped(count)));
    if (!text_.empty()) return wrong(1, "something behind the end");
    return std::move(out_);
  }

  std::string_view text_;
  std::size_t line_ = 0;
  LedgerFile out_;
};

}  // namespace

std::string heading_text(const LedgerHeading& heading) {
  std::string out = fmt::format("{}\n{}{}\n", kFirstLine, kNode, escaped(heading.node));
  if (heading.since) out += fmt::format("{}{}\n", kSince, text_of(*heading.since));
  if (heading.until) out += fmt::format("{}{}\n", kUntil, text_of(*heading.until));
  if (heading.salt) out += fmt::format("{}{}\n", kSalt, *heading.salt);
  return out + std::string(kRecords) + "\n";
}

std::string line_of(const Entry& entry) {
  return fmt::format("{} {} {} {}\n", to_hex(entry.key), to_hex(entry.digest), since_1970(entry.event_time),
                     since_1970(entry.received));
}

std::string ending_text(std::uint64_t count) {
  return fmt::format("{}{}\n", kEnd, count);
}

Result<LedgerFile> read_ledger(std::string_view text) {
  return LedgerReader(text).read();
}

}  // namespace jembatan::accounting
