#pragma once
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"

namespace jembatan::cli {

struct CsvRow {
  std::size_t line = 1;  ///< where it begins, from 1
  std::vector<std::string> cells;
};

/// Reads RFC 4180: cells by commas (or semicolons, if the first row has those alone), quotes doubled inside
/// quotes; empty lines are left out; a byte order mark is skipped.
///   errors  Errc::malformed with the line: a quote that does not end, or text behind one; a row with more or
///           fewer cells than the first
Result<std::vector<CsvRow>> read_csv(std::string_view text);

/// A cell as it stands in a file: in quotes where it must be.
std::string csv_cell(std::string_view text);

}  // namespace jembatan::cli
