#pragma once
#include "store/salvage.h"

namespace jembatan::store {

inline constexpr const char* kAccountingFile = "accounting.sqlite";
inline constexpr const char* kRecordFolder = "records";

/// On return, all that was committed to the file survives a loss of power: a commit that is on the disk takes
/// those before it along. Others are not synced. Of `accounting.sqlite`, and of days' files; throws.
void settle(SQLite::Database& database);

/// Opens, or makes, `accounting.sqlite` and the folder of the days' files. A store of version 1, which had
/// everything in one file, becomes one of today: its records go into the files of their days first, then all
/// else changes in one transaction; whoever is stopped in between does it again.
///   errors  Errc::io; Errc::conflict: made by a newer version
/// One that is damaged is mended.
struct OpenedAccounting {
  SQLite::Database database;
  std::optional<Mended> mended;
};
Result<OpenedAccounting> open_accounting(const std::filesystem::path& folder);

}  // namespace jembatan::store
