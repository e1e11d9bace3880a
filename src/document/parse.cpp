#include "document/parse.h"

#include <fmt/format.h>
#include <toml++/toml.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <fstream>
#include <sstream>

#include "base/text.h"
#include "document/mask.h"
#include "document/nesting.h"

namespace jembatan::document {
namespace {

Position position_of(const toml::source_region& source) {
  return {source.begin.line, source.begin.column};
}

Value value_of(const toml::node& node);

Value table_of(const toml::table& table) {
  Value out;
  for (const auto& [key, node] : table) {
    out.entries.push_back({std::string(key.str()), position_of(key.source()), value_of(node)});
  }
  std::stable_sort(out.entries.begin(), out.entries.end(), [](const Entry& a, const Entry& b) {
    return std::tie(a.at.line, a.at.column) < std::tie(b.at.line, b.at.column);
  });
  return out;
}

Value value_of(const toml::node& node) {
  Value out;
  if (const auto* table = node.as_table()) {
    out = table_of(*table);
  } else if (const auto* array = node.as_array()) {
    out.kind = Kind::array;
    for (const toml::node& item : *array) out.items.push_back(value_of(item));
  } else if (const auto* text = node.as_string()) {
    out.kind = Kind::text;
    out.text = text->get();
  } else if (const auto* integer = node.as_integer()) {
    out.kind = Kind::integer;
    out.integer = integer->get();
  } else if (const auto* real = node.as_floating_point()) {
    out.kind = Kind::real;
    out.real = real->get();
  } else if (const auto* boolean = node.as_boolean()) {
    out.kind = Kind::boolean;
    out.boolean = boolean->get();
  } else {
    out.kind = Kind::date_or_time;
  }
  out.at = position_of(node.source());
  return out;
}

// The parser quotes pieces of the document; what it quotes may be part of a secret. Single characters stay.
std::string without_quotes(std::string_view description) {
  std::string out;
  while (!description.empty()) {
    const std::size_t begin = description.find_first_of("'\"");
    out += description.substr(0, begin);
    if (begin == std::string_view::npos) return out;
    const std::size_t end = description.find(description[begin], begin + 1);
    const std::string_view inside =
        description.substr(begin + 1, end == std::string_view::npos ? end : end - begin - 1);
    out += inside.size() == 1 ? fmt::format("'{}'", inside) : "'…'";
    if (end == std::string_view::npos) return out;
    description.remove_prefix(end + 1);
  }
  return out;
}

std::string line_of(std::string_view text, std::uint32_t number) {
  const auto lines = split(text, '\n');
  if (number == 0 || number > lines.size()) return "";
  std::string_view line = lines[number - 1];
  if (line.ends_with('\r')) line.remove_suffix(1);
  return std::string(line);
}

// "in a string: …"; the parser's own words for the end of a line are a control character, or what it saw.
std::string in_words(std::string_view description, Position at, const std::string& line) {
  constexpr std::string_view kWhere = "Error while parsing ";
  constexpr std::string_view kSaw = ", saw ";
  if (description.starts_with(kWhere)) description.remove_prefix(kWhere.size());
  const bool at_the_end = at.column > line.size();
  if (!at_the_end) return without_quotes(description);
  if (description.find("control characters") != std::string_view::npos)
    return "a text is not closed: the line ends before its second quote";
  return without_quotes(description.substr(0, description.find(kSaw))) + "; the line ends before it";
}

}  // namespace

std::string_view name_of(Kind kind) {
  switch (kind) {
    case Kind::text:
      return "text";
    case Kind::integer:
      return "a whole number";
    case Kind::real:
      return "a number with a fraction";
    case Kind::boolean:
      return "true or false";
    case Kind::date_or_time:
      return "a date or time";
    case Kind::array:
      return "an array";
    case Kind::table:
      return "a table";
  }
  return "something else";
}

const Value* Value::find(std::string_view key) const {
  for (const Entry& entry : entries) {
    if (entry.key == key) return &entry.value;
  }
  return nullptr;
}

std::optional<File> parse(std::string name, std::string_view text, Problems& problems) {
  if (const auto found = too_deep(text)) {
    problems.add({Level::error, std::move(name), found->at, found->text, "", "", 1});
    return std::nullopt;
  }
  try {
    Value root = table_of(toml::parse(text));
    File out{std::move(name), {}, std::move(root)};
    for (const std::string_view line : split(text, '\n')) out.lines.emplace_back(line);
    return out;
  } catch (const toml::parse_error& error) {
    const Position at = position_of(error.source());
    const std::string line = line_of(text, at.line);
    problems.add({Level::error, std::move(name), at, "not TOML: " + in_words(error.description(), at, line),
                  "", shown_line(line), 1});
    return std::nullopt;
  }
}

Result<std::string> read_file(const std::filesystem::path& path, std::size_t most) {
  std::error_code ignored;
  if (std::filesystem::is_directory(path, ignored)) {
    return fail(Errc::io, fmt::format("'{}' is a folder, a file is needed", path.string()));
  }
  errno = 0;
  std::ifstream in(path, std::ios::binary);
  if (!in) {
    return fail(errno == ENOENT ? Errc::not_found : Errc::io,
                fmt::format("file '{}': {}", path.string(), std::strerror(errno)));
  }
  constexpr std::size_t kPiece = 1U << 18U;
  std::string out;
  while (in && out.size() <= most) {
    const std::size_t size = out.size();
    out.resize(size + kPiece);
    in.read(out.data() + size, kPiece);
    out.resize(size + static_cast<std::size_t>(in.gcount()));
  }
  if (in.bad()) return fail(Errc::io, fmt::format("file '{}': {}", path.string(), std::strerror(errno)));
  if (out.size() > most)
    return fail(Errc::too_long, fmt::format("file '{}' is larger than {} MiB", path.string(), most >> 20U));
  return out;
}

}  // namespace jembatan::document
