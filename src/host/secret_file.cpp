#include "host/secret_file.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "base/text.h"
#include "document/parse.h"

namespace jembatan::host {
namespace {

constexpr std::size_t kOctets = 32;

struct File {
  const std::filesystem::path& path;
  std::string_view what;

  Error problem(std::string_view why) const {
    return fail(Errc::io, fmt::format("{} '{}': {}", what, path.string(), why));
  }
};

}  // namespace

Status write_secret_file(const std::filesystem::path& path, std::string_view what, std::string_view text) {
  const File file{path, what};
  const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
  if (fd < 0) return file.problem(std::strerror(errno));
  const std::string line = std::string(text) + "\n";
  const bool written = ::write(fd, line.data(), line.size()) == static_cast<ssize_t>(line.size());
  const int why = errno;
  ::close(fd);
  if (written) return {};
  ::unlink(path.c_str());
  return file.problem(std::strerror(why));
}

Result<Secret> open_secret_file(const std::filesystem::path& path, std::string_view what, Random& random) {
  const File file{path, what};
  struct stat found {};
  if (::stat(path.c_str(), &found) != 0) {
    if (errno != ENOENT) return file.problem(std::strerror(errno));
    Octets octets(kOctets);
    random.fill(octets);
    if (const Status made = write_secret_file(path, what, to_hex(octets)); !made) return made.error();
  } else if ((found.st_mode & (S_IRGRP | S_IROTH)) != 0) {
    return fail(Errc::not_allowed,
                fmt::format("{} '{}' can be read by others; allowed: chmod 600", what, path.string()));
  }
  const auto text = document::read_file(path);
  if (!text) return text.error();
  if (trim(*text).size() < kOctets) return file.problem("it does not hold 32 characters or more");
  return Secret(trim(*text));
}

}  // namespace jembatan::host
