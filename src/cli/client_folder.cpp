// Adding a client to a plan's folder.
#include "cli/client_folder.h"

#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>
#include <filesystem>

#include "base/text.h"
#include "host/system.h"
#include "plan/read.h"

namespace jembatan::cli {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kSecretLength = 32;

Status write_new(const fs::path& file, const std::string& text, int flags, mode_t mode) {
  const int fd = ::open(file.c_str(), O_WRONLY | O_CREAT | O_CLOEXEC | flags, mode);
  bool written = fd >= 0 && ::write(fd, text.data(), text.size()) == static_cast<ssize_t>(text.size());
  const int why = errno;
  if (fd >= 0) written = ::close(fd) == 0 && written;
  if (written) return {};
  return fail(why == EEXIST ? Errc::conflict : Errc::io,
              fmt::format("file '{}': {}", file.string(), std::strerror(why)));
}

bool usable_as_file(std::string_view name) {
  return !name.empty() && name.size() <= 100 && name[0] != '.' &&
         name.find_first_not_of("ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789._-") ==
             std::string_view::npos;
}

std::string entry_text(const std::string& name, const Prefix& address, plan::SignatureRule rule) {
  return fmt::format(
      "\n[[client]]\nname = \"{}\"\naddress = \"{}\"\nsecret = {{ file = \"secrets/{}\" }}\n"
      "message_authenticator = \"{}\"\n",
      name, address.text(), name, rule == plan::SignatureRule::always ? "always" : "if-present");
}

// Writes the secret and the entry, then reads the whole plan: if it has errors now, both are taken back.
Status add_to(const fs::path& folder, const std::string& name, const std::string& entry) {
  document::Problems before;
  if (plan::read_folder(folder, before) == nullptr && !fs::is_empty(folder)) {
    return fail(Errc::conflict, "the plan has errors already; nothing was added\n" + before.text());
  }
  std::error_code ignored;
  fs::create_directories(folder / "secrets", ignored);
  const fs::path secret = folder / "secrets" / name;
  const fs::path clients = folder / "clients.toml";
  if (const Status s = write_new(secret, host::SystemRandom().letters(kSecretLength) + "\n", O_EXCL, 0600);
      !s)
    return s;
  const bool had_file = fs::exists(clients);
  const auto size = had_file ? fs::file_size(clients) : 0;
  Status written = write_new(clients, entry, O_APPEND, 0644);
  document::Problems after;
  if (written && plan::read_folder(folder, after) == nullptr)
    written = fail(Errc::conflict, after.text() + "nothing was added");
  if (written) return {};
  fs::remove(secret, ignored);
  if (had_file) {
    fs::resize_file(clients, size, ignored);
  } else {
    fs::remove(clients, ignored);
  }
  return written;
}

}  // namespace

Result<std::string> add_to_folder(const fs::path& folder, const std::string& name, const Prefix& address,
                                  plan::SignatureRule rule) {
  if (!usable_as_file(name)) {
    return fail(
        Errc::malformed,
        fmt::format("the name '{}' cannot be used; allowed: letters, digits, '.', '-', '_', 1 to 100 of them",
                    escaped(name)));
  }
  if (!fs::is_directory(folder))
    return fail(Errc::not_found,
                fmt::format("'{}' is no folder; --plan takes the plan's folder", folder.string()));
  const Status added = add_to(folder, name, entry_text(name, address, rule));
  if (!added) return added.error();
  return (folder / "secrets" / name).string();
}

}  // namespace jembatan::cli
