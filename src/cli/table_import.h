#pragma once
// Objects of a plan from a table (CSV).
#include <nlohmann/json_fwd.hpp>

#include "cli/column_map.h"
#include "cli/command.h"

namespace jembatan::cli {

/// field → column
using ColumnMap = std::map<std::string, std::size_t>;

/// What a table is taken for.
struct TableImport {
  std::string noun;  ///< of a row, in messages: "user"
  const Fillable& columns;
  /// The change that a row makes, with its name.
  ///   errors  Errc::malformed
  std::function<Result<nlohmann::json>(const CsvRow& row, const ColumnMap& map)> change_of;
};

/// Reads the table that the first positional names, by --map, and sends all of its changes, or none.
Exit import_table(const Arguments& arguments, Terminal& terminal, const TableImport& what);

/// --map, then `own`, then those of a change.
std::vector<Option> import_options(const std::string& example, const std::vector<Option>& own = {});

}  // namespace jembatan::cli
