#pragma once
#include <cstdio>
#include <filesystem>
#include <memory>
#include <string_view>

#include "base/result.h"

namespace jembatan::cli {

/// A file that is whole and on the disk, or not there: until it has its name, it is a part beside it, which
/// stays if something fails. All fail with Errc::io.
class NewFile {
 public:
  static std::filesystem::path part_of(const std::filesystem::path& file) { return file.string() + ".part"; }

  static Result<NewFile> open(const std::filesystem::path& file);
  Status write(std::string_view text);
  /// The part is on the disk.
  Status sync();
  /// It has its name, also after a loss of power. To be called behind sync().
  Status name();

 private:
  struct Close {
    void operator()(std::FILE* file) const { std::fclose(file); }
  };
  std::filesystem::path file_;
  std::unique_ptr<std::FILE, Close> open_;
};

/// Writes a file anew, or leaves it as it was.
Status write_new(const std::filesystem::path& file, std::string_view text);

/// False also where nobody can tell.
bool is_there(const std::filesystem::path& file);
/// What the system says of the last thing that was tried with it.
Error io_error(const std::filesystem::path& file);

}  // namespace jembatan::cli
