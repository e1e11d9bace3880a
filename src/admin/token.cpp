#include "admin/token.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <sys/stat.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "base/text.h"
#include "document/parse.h"

namespace jembatan::admin {
namespace {

constexpr std::size_t kTokenOctets = 32;

Error problem(const std::filesystem::path& file, const char* why) {
  return fail(Errc::io, fmt::format("token file '{}': {}", file.string(), why));
}

Status make(const std::filesystem::path& file, Random& random) {
  Octets octets(kTokenOctets);
  random.fill(octets);
  const std::string text = to_hex(octets) + "\n";
  const int fd = ::open(file.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
  if (fd < 0) return problem(file, std::strerror(errno));
  const bool written = ::write(fd, text.data(), text.size()) == static_cast<ssize_t>(text.size());
  const int why = errno;
  ::close(fd);
  if (written) return {};
  ::unlink(file.c_str());
  return problem(file, std::strerror(why));
}

}  // namespace

Result<Secret> open_token(const std::filesystem::path& file, Random& random) {
  struct stat found {};
  if (::stat(file.c_str(), &found) != 0) {
    if (errno != ENOENT) return problem(file, std::strerror(errno));
    if (const Status made = make(file, random); !made) return made.error();
  } else if ((found.st_mode & (S_IRGRP | S_IROTH)) != 0) {
    return fail(Errc::not_allowed,
                fmt::format("token file '{}' can be read by others; allowed: chmod 600", file.string()));
  }
  const auto text = document::read_file(file);
  if (!text) return text.error();
  if (trim(*text).size() < kTokenOctets) return problem(file, "no token of 32 characters or more in it");
  return Secret(trim(*text));
}

}  // namespace jembatan::admin
