#include "document/reading.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "document/mask.h"

namespace jembatan::document {

std::string Reading::shown(Position at, const std::vector<std::string>& hidden) const {
  if (at.line == 0 || at.line > file_.lines.size()) return "";
  return shown_line(file_.lines[at.line - 1], hidden);
}

void Reading::add(Problem problem) {
  add(std::move(problem), hidden_);
}

void Reading::add(Problem problem, const std::vector<std::string>& hidden) {
  problem.file = file_.name;
  problem.line = shown(problem.at, hidden);
  const std::size_t length = problem.line.size();
  problem.width = std::min(problem.width, length >= problem.at.column ? length - problem.at.column + 1 : 1);
  problems_.add(std::move(problem));
}

void Reading::wrong(const Entry& entry, std::string text, std::string allowed) {
  std::size_t width = 1;
  if (entry.value.kind == Kind::text) width = entry.value.text.size() + 2;
  if (entry.value.kind == Kind::integer) width = std::to_string(entry.value.integer).size();
  add({Level::error, "", entry.value.at, std::move(text), std::move(allowed), "", width});
}

// Where an offset of a text stands in its line: behind the quote, and an escaped character takes two places.
Position Reading::inside(const Value& text, std::size_t offset) const {
  Position out = text.at;
  ++out.column;
  if (out.line == 0 || out.line > file_.lines.size()) return out;
  const std::string& line = file_.lines[out.line - 1];
  const bool escapes = text.at.column <= line.size() && line[text.at.column - 1] == '"';
  for (; offset > 0; --offset) {
    const bool escaped = escapes && out.column <= line.size() && line[out.column - 1] == '\\';
    out.column += escaped ? 2 : 1;
  }
  return out;
}

void Reading::wrong_inside(const Entry& entry, std::size_t offset, std::size_t width, std::string text,
                           std::string allowed) {
  add({Level::error, "", inside(entry.value, offset), std::move(text), std::move(allowed), "", width});
}

void Reading::unknown_key(const Entry& entry, std::string_view owner,
                          const std::vector<std::string>& allowed) {
  std::string list = join(allowed, ", ");
  const auto near = nearest(entry.key, allowed);
  if (near) list += fmt::format("; nearest: '{}'", *near);
  // Of a key that is like none, nobody knows what its value is.
  std::vector<std::string> hidden = hidden_;
  if (!near) hidden.push_back(entry.key);
  add({Level::error, "", entry.at, fmt::format("unknown key '{}' in {}", escaped(entry.key), owner), list, "",
       entry.key.size()},
      hidden);
}

void Reading::missing_key(Position at, std::string_view key, std::string_view owner,
                          std::string_view meaning) {
  add({Level::error, "", at, fmt::format("'{}' is missing in {}", key, owner), std::string(meaning), "", 1});
}

void Reading::advise(Position at, std::string rule, std::string text, std::string mend) {
  // About an object as a whole: the line of its heading would tell nothing.
  problems_.add(
      {Level::advice, file_.name, at, std::move(text), "", "", 1, std::move(rule), std::move(mend)});
}

bool Reading::expect(const Entry& entry, Kind kind) {
  if (entry.value.kind == kind) return true;
  wrong(entry, fmt::format("'{}' is {}", entry.key, name_of(entry.value.kind)), std::string(name_of(kind)));
  return false;
}

std::optional<std::string> Reading::text(const Entry& entry) {
  if (!expect(entry, Kind::text)) return std::nullopt;
  return entry.value.text;
}

std::optional<std::int64_t> Reading::integer(const Entry& entry, std::int64_t least, std::int64_t most) {
  if (!expect(entry, Kind::integer)) return std::nullopt;
  if (entry.value.integer >= least && entry.value.integer <= most) return entry.value.integer;
  wrong(entry, fmt::format("'{}' is {}", entry.key, entry.value.integer),
        fmt::format("{} to {}", least, most));
  return std::nullopt;
}

std::optional<bool> Reading::boolean(const Entry& entry) {
  const std::string& text = entry.value.text;
  if (entry.value.kind == Kind::text && (text == "yes" || text == "no")) return text == "yes";
  if (!expect(entry, Kind::boolean)) return std::nullopt;
  return entry.value.boolean;
}

std::optional<Duration> Reading::duration(const Entry& entry, Duration least, Duration most) {
  const std::string range = fmt::format("{} to {}", text_of(least), text_of(most));
  if (entry.value.kind == Kind::integer) {
    wrong(entry, fmt::format("'{}' is {} without a unit", entry.key, entry.value.integer),
          range + ", written like \"250ms\", \"30s\", \"5m\", \"12h\"");
    return std::nullopt;
  }
  if (!expect(entry, Kind::text)) return std::nullopt;
  const auto found = parse_duration(entry.value.text);
  if (!found) {
    wrong(entry, fmt::format("'{}' is '{}', not a duration", entry.key, escaped(entry.value.text)),
          range + ", written like 250ms, 30s, 5m, 12h");
    return std::nullopt;
  }
  if (*found >= least && *found <= most) return *found;
  wrong(entry, fmt::format("'{}' is {}", entry.key, text_of(*found)), range);
  return std::nullopt;
}

std::optional<std::size_t> Reading::choice(const Entry& entry, std::span<const std::string_view> names) {
  if (!expect(entry, Kind::text)) return std::nullopt;
  for (std::size_t i = 0; i < names.size(); ++i) {
    if (names[i] == entry.value.text) return i;
  }
  const std::vector<std::string> allowed(names.begin(), names.end());
  std::string list = join(allowed, ", ");
  if (const auto near = nearest(entry.value.text, allowed)) list += fmt::format("; nearest: '{}'", *near);
  wrong(entry, fmt::format("'{}' is '{}'", entry.key, escaped(entry.value.text)), list);
  return std::nullopt;
}

std::optional<Entry> Reading::list(const Entry& entry) {
  if (entry.value.kind != Kind::text) return expect(entry, Kind::array) ? std::optional(entry) : std::nullopt;
  Entry out{entry.key, entry.at, {}};
  out.value.kind = Kind::array;
  out.value.at = entry.value.at;
  out.value.items = {entry.value};
  return out;
}

std::vector<std::string> Reading::texts(const Entry& entry) {
  std::vector<std::string> out;
  const auto given = list(entry);
  if (!given) return out;
  for (const Value& item : given->value.items) {
    if (item.kind == Kind::text) {
      out.push_back(item.text);
    } else {
      wrong({entry.key, item.at, item}, fmt::format("'{}' holds {}", entry.key, name_of(item.kind)), "text");
    }
  }
  return out;
}

}  // namespace jembatan::document
