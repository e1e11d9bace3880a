#include "store/day_files.h"

#include <algorithm>

namespace jembatan::store {
namespace {

constexpr std::string_view kEnding = ".sqlite";

// Whoever writes has not made its tables yet.
bool is_being_made(const std::filesystem::path& file) {
  SQLite::Database database = open_to_read(file);
  return number_of(database, "PRAGMA user_version") == 0;
}

}  // namespace

std::vector<Day> DayFiles::days() const {
  std::vector<Day> out;
  std::error_code failed;
  for (std::filesystem::directory_iterator at(folder_, failed), end; !failed && at != end;
       at.increment(failed)) {
    const std::string name = at->path().filename().string();
    if (!name.ends_with(kEnding)) continue;
    if (const auto day = day_in(std::string_view(name).substr(0, name.size() - kEnding.size())))
      out.push_back(*day);
  }
  std::sort(out.rbegin(), out.rend());
  return out;
}

std::vector<Mended> DayFiles::mend() {
  constexpr std::size_t kDays = 2;  // those that are written
  std::error_code failed;
  std::vector<std::filesystem::path> unfinished;
  for (std::filesystem::directory_iterator at(folder_, failed), end; !failed && at != end;
       at.increment(failed)) {
    std::string path = at->path().string();
    if (!path.ends_with(kMendedEnding)) continue;
    path.resize(path.size() - kMendedEnding.size());
    unfinished.emplace_back(std::move(path));
  }
  for (const auto& file : unfinished) finish_mending(file);
  std::vector<Mended> out;
  std::vector<Day> newest = days();
  newest.resize(std::min(newest.size(), kDays));
  for (const Day day : newest) {
    if (auto mended = DayFile::mend(file_of(day))) out.push_back(std::move(*mended));
  }
  return out;
}

std::filesystem::path DayFiles::file_of(Day day) const {
  return folder_ / (date_text(day) + std::string(kEnding));
}

std::uint64_t DayFiles::octets_of(Day day) const {
  std::uint64_t out = 0;
  for (const char* beside : {"", "-wal"}) {
    std::error_code failed;
    const auto size = std::filesystem::file_size(file_of(day).string() + beside, failed);
    if (!failed) out += size;
  }
  return out;
}

void DayFiles::drop(Day day) {
  open_.erase(day);
  for (const char* beside : {"", "-wal", "-shm"}) {
    std::error_code ignored;
    std::filesystem::remove(file_of(day).string() + beside, ignored);
  }
}

DayFile* DayFiles::of(Day day) {
  const bool only_read = access_ == DayFile::Access::read;
  if (only_read && !std::filesystem::exists(file_of(day))) {
    open_.erase(day);  // dropped by who writes
    return nullptr;
  }
  if (const auto found = open_.find(day); found != open_.end()) {
    found->second.used = ++uses_;
    return found->second.file.get();
  }
  if (open_.size() >= kMostOpen)
    open_.erase(std::min_element(open_.begin(), open_.end(),
                                 [](const auto& a, const auto& b) { return a.second.used < b.second.used; }));
  if (only_read && is_being_made(file_of(day))) return nullptr;
  auto opened = std::make_unique<DayFile>(file_of(day), access_);
  return open_.insert_or_assign(day, Opened{std::move(opened), ++uses_}).first->second.file.get();
}

DayFile& DayFiles::to_write(Day day) {
  if (access_ == DayFile::Access::read) throw SQLite::Exception("opened for reading alone");
  return *of(day);
}

std::vector<DayFile*> DayFiles::open() const {
  std::vector<DayFile*> out;
  for (const auto& [day, opened] : open_) out.push_back(opened.file.get());
  return out;
}

}  // namespace jembatan::store
