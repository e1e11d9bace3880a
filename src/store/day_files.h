#pragma once
#include <map>
#include <memory>

#include "store/day_file.h"

namespace jembatan::store {

/// The files of all days in a folder, opened when they are needed, the last few kept open. What SQLite throws
/// goes through.
class DayFiles {
 public:
  DayFiles(std::filesystem::path folder, DayFile::Access access)
      : folder_(std::move(folder)), access_(access) {}

  /// The days that there are files of, newest first.
  std::vector<Day> days() const;
  std::uint64_t octets_of(Day day) const;
  /// Mends those of the newest days that are damaged; to be called before any is opened.
  std::vector<Mended> mend();
  /// Removes the file of a day, and what SQLite has beside it.
  void drop(Day day);
  /// The file of a day; null, if there is none and this only reads.
  DayFile* of(Day day);
  /// The file of a day, to be written. Throws where this only reads.
  DayFile& to_write(Day day);
  /// Those that are open.
  std::vector<DayFile*> open() const;

 private:
  static constexpr std::size_t kMostOpen = 8;
  std::filesystem::path file_of(Day day) const;
  struct Opened {
    std::unique_ptr<DayFile> file;
    std::uint64_t used = 0;
  };
  std::filesystem::path folder_;
  DayFile::Access access_;
  std::map<Day, Opened> open_;
  std::uint64_t uses_ = 0;
};

}  // namespace jembatan::store
