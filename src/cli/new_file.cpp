#include "cli/new_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

namespace jembatan::cli {

namespace fs = std::filesystem;

namespace {

// What is in a folder is on the disk.
Status sync_folder_of(const fs::path& file) {
  const fs::path folder = fs::absolute(file).parent_path();
  const int opened = ::open(folder.c_str(), O_RDONLY | O_DIRECTORY | O_CLOEXEC);
  const bool synced = opened >= 0 && ::fsync(opened) == 0;
  const Status out = synced ? Status{} : Status{io_error(folder)};
  if (opened >= 0) ::close(opened);
  return out;
}

}  // namespace

Error io_error(const fs::path& file) {
  return fail(Errc::io, fmt::format("'{}': {}", file.string(), std::strerror(errno)));
}

bool is_there(const fs::path& file) {
  std::error_code ignored;
  return fs::exists(file, ignored);
}

Result<NewFile> NewFile::open(const fs::path& file) {
  NewFile out;
  out.file_ = file;
  out.open_.reset(std::fopen(part_of(file).c_str(), "wb"));
  if (!out.open_) return io_error(part_of(file));
  return out;
}

Status NewFile::write(std::string_view text) {
  if (std::fwrite(text.data(), 1, text.size(), open_.get()) == text.size()) return {};
  return io_error(part_of(file_));
}

Status NewFile::sync() {
  if (std::fflush(open_.get()) != 0 || ::fsync(::fileno(open_.get())) != 0) return io_error(part_of(file_));
  return sync_folder_of(file_);
}

Status NewFile::name() {
  if (std::rename(part_of(file_).c_str(), file_.c_str()) != 0) return io_error(file_);
  return sync_folder_of(file_);
}

Status write_new(const fs::path& file, std::string_view text) {
  auto next = NewFile::open(file);
  if (!next) return next.error();
  if (const Status written = next->write(text); !written) return written;
  if (const Status synced = next->sync(); !synced) return synced;
  return next->name();
}

}  // namespace jembatan::cli
