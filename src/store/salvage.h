#pragma once
// A damaged database file: what can be read of it goes into a new one in its place, and it is set aside.
#include <filesystem>
#include <optional>
#include <span>

#include "store/database.h"

namespace jembatan::store {

/// What is in a file that is to be mended.
struct Contents {
  std::string tables;  ///< the SQL that makes them
  std::int64_t version = 0;
  struct Table {
    std::string name;
    std::string
        order;  ///< the columns of its primary key, by which it is read from both ends; empty: one row
  };
  std::vector<Table> read;
};

/// What came of it.
struct Mended {
  std::filesystem::path file;
  std::filesystem::path set_aside;
  std::string why;  ///< what was wrong with it
  std::uint64_t rows = 0;
};

/// What is mended stands under this name until it is whole.
inline constexpr std::string_view kMendedEnding = ".mended";
/// Ends what was stopped between the two names. Does not throw.
void finish_mending(const std::filesystem::path& file);

/// Looks whether a file is whole (of a large one, whether its tables can be found); if it is not, makes a new
/// one out of what can be read, from both ends of each table. Whoever is stopped in between does it again.
/// Nobody else may have it open. Throws what SQLite does if the new one cannot be written.
///   returns  nothing if there was nothing to mend
std::optional<Mended> mend(const std::filesystem::path& file, const Contents& contents);

}  // namespace jembatan::store
