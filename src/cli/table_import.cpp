#include "cli/table_import.h"

#include <fmt/format.h>

#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/text.h"
#include "cli/change.h"

namespace jembatan::cli {

using nlohmann::json;

Exit import_table(const Arguments& arguments, Terminal& terminal, const TableImport& what) {
  const std::string& path = arguments.positionals().front();
  const auto rows = read_rows_of(path);
  if (!rows) return report(rows.error(), terminal);
  const auto map = read_map(arguments.get("--map"), rows->front().cells, what.columns);
  if (!map) return report(map.error(), terminal);
  const std::string file = std::filesystem::path(path).filename().string();
  json body{{"changes", json::array()}};
  std::map<std::string, std::size_t> lines;
  for (std::size_t i = 1; i < rows->size(); ++i) {
    const CsvRow& row = (*rows)[i];
    const std::string place = fmt::format("{} line {}", file, row.line);
    auto change = what.change_of(row, *map);
    if (!change) return report(change.error().at(place), terminal);
    const auto [earlier, added] = lines.try_emplace(change->value("name", ""), row.line);
    if (!added)
      return report(
          fail(Errc::malformed, fmt::format("{}: {} '{}' stands in line {} already; nothing was changed",
                                            place, what.noun, escaped(earlier->first), earlier->second)),
          terminal);
    (*change)["place"] = place;
    body["changes"].push_back(std::move(*change));
  }
  if (!arguments.has("--why")) body["message"] = "import of " + file;
  return send_change(arguments, terminal, "/v1/plan/change", std::move(body));
}

std::vector<Option> import_options(const std::string& example, const std::vector<Option>& own) {
  std::vector<Option> out{{"--map", "FIELD=COLUMN,…", "which column fills which field, like " + example}};
  out.insert(out.end(), own.begin(), own.end());
  for (Option& option : change_options()) out.push_back(std::move(option));
  return out;
}

}  // namespace jembatan::cli
