#pragma once
// Which column of a table fills which field: --map.
#include <map>

#include "cli/csv.h"

namespace jembatan::cli {

/// Fields that a column can fill. A name that ends in ".*" stands for any key below it.
struct Fillable {
  std::vector<std::string> fields;
  std::vector<std::string> needed;
};

/// field → column, from "name=Host,address=IP"; from an empty text, each column is called like its field.
///   errors  Errc::malformed: an unknown field or column, with the nearest; a needed field without a column
Result<std::map<std::string, std::size_t>> read_map(const std::string& text,
                                                    const std::vector<std::string>& heading,
                                                    const Fillable& fillable);

/// The rows of a table, of which there is one at least below the heading.
///   errors  Errc::io, Errc::not_found: the file; Errc::malformed
Result<std::vector<CsvRow>> read_rows_of(const std::string& path);

/// A cell that says yes or no, as true or false; nothing if it does not.
std::optional<bool> yes_or_no(const std::string& text);

}  // namespace jembatan::cli
