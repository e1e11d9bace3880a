#include "cli/column_map.h"

#include <fmt/format.h>

#include <algorithm>
#include <filesystem>

#include "base/text.h"
#include "document/parse.h"

namespace jembatan::cli {
namespace {

bool may_fill(const std::vector<std::string>& fields, const std::string& name) {
  return std::any_of(fields.begin(), fields.end(), [&](const std::string& field) {
    const bool any_below = field.ends_with(".*");
    const std::string_view head = std::string_view(field).substr(0, field.size() - (any_below ? 1 : 0));
    return any_below ? name.starts_with(head) && name.size() > head.size() : name == field;
  });
}

Error unknown(std::string_view what, const std::string& name, const std::vector<std::string>& allowed) {
  const auto near = nearest(name, allowed);
  return fail(Errc::malformed,
              fmt::format("no {} '{}'; there are: {}{}", what, escaped(name), join(allowed, ", "),
                          near ? fmt::format("; nearest: '{}'", *near) : ""));
}

}  // namespace

Result<std::map<std::string, std::size_t>> read_map(const std::string& text,
                                                    const std::vector<std::string>& heading,
                                                    const Fillable& fillable) {
  std::map<std::string, std::size_t> out;
  if (text.empty()) {
    for (std::size_t i = 0; i < heading.size(); ++i) {
      if (!may_fill(fillable.fields, heading[i]))
        return unknown("field", heading[i], fillable.fields).at("heading (--map names columns otherwise)");
      out[heading[i]] = i;
    }
  } else {
    for (const std::string_view part : split(text, ',')) {
      const std::size_t equals = part.find('=');
      const std::string field(trim(part.substr(0, equals)));
      const std::string name(equals == std::string_view::npos ? field : trim(part.substr(equals + 1)));
      if (!may_fill(fillable.fields, field)) return unknown("field", field, fillable.fields).at("--map");
      const auto found = std::find(heading.begin(), heading.end(), name);
      if (found == heading.end()) return unknown("column", name, heading).at("--map");
      out[field] = static_cast<std::size_t>(found - heading.begin());
    }
  }
  for (const std::string& needed : fillable.needed) {
    if (!out.contains(needed))
      return fail(Errc::malformed, fmt::format("--map says no column for '{}'", needed));
  }
  return out;
}

Result<std::vector<CsvRow>> read_rows_of(const std::string& path) {
  const auto text = document::read_file(path);
  if (!text) return text.error();
  const std::string file = std::filesystem::path(path).filename().string();
  auto rows = read_csv(*text);
  if (!rows) return rows.error().at(file);
  if (rows->size() < 2) return fail(Errc::malformed, file + ": no row below the heading");
  return rows;
}

std::optional<bool> yes_or_no(const std::string& text) {
  const std::string plain = lower(text);
  if (plain == "true" || plain == "yes" || plain == "on" || plain == "1") return true;
  if (plain == "false" || plain == "no" || plain == "off" || plain == "0") return false;
  return std::nullopt;
}

}  // namespace jembatan::cli
