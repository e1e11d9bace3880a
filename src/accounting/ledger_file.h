#pragma once
// A ledger as a file for somebody else: no names are in it, and what is in it was salted.
#include "accounting/ledger.h"

namespace jembatan::accounting {

/// What stands above the entries.
struct LedgerHeading {
  std::string node;  ///< whose records they are
  std::optional<WallTime> since = {};
  std::optional<WallTime> until = {};
  std::optional<std::string> salt = {};  ///< nothing: both sides have it by another way
};

std::string heading_text(const LedgerHeading& heading);
/// One line; ids, and when it was sent, are left out.
std::string line_of(const Entry& entry);
std::string ending_text(std::uint64_t count);

struct LedgerFile {
  LedgerHeading heading;
  std::vector<Entry> entries;
};
/// Reads what the three wrote.
///   errors  Errc::malformed, with the line and column: no such file, another version, a line that is
///   damaged,
///           an end that is missing; more than kMostInFile entries
Result<LedgerFile> read_ledger(std::string_view text);
inline constexpr std::size_t kMostInFile = 20'000'000;

}  // namespace jembatan::accounting
