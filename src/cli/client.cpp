// jembatan client: adding a client to a plan's folder.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <algorithm>
#include <cerrno>
#include <cstring>
#include <filesystem>
#include <nlohmann/json.hpp>

#include "base/ip.h"
#include "base/text.h"
#include "cli/node_access.h"
#include "plan/read.h"
#include "server/system.h"

namespace jembatan::cli {
namespace {

namespace fs = std::filesystem;

constexpr std::size_t kSecretLength = 32;

// 32 characters out of 62: some 190 bits, safe to paste anywhere.
std::string new_secret() {
  static constexpr std::string_view kLetters =
      "ABCDEFGHIJKLMNOPQRSTUVWXYZabcdefghijklmnopqrstuvwxyz0123456789";
  server::SystemRandom random;
  std::string out;
  while (out.size() < kSecretLength) out += kLetters[random.below(kLetters.size())];
  return out;
}

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

std::string entry_text(const std::string& name, const Prefix& address, bool signs) {
  return fmt::format(
      "\n[[client]]\nname = \"{}\"\naddress = \"{}\"\nsecret = {{ file = \"secrets/{}\" }}\n"
      "message_authenticator = \"{}\"\n",
      name, address.text(), name, signs ? "always" : "if-present");
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
  if (const Status s = write_new(secret, new_secret() + "\n", O_EXCL, 0600); !s) return s;
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

Exit add(const Arguments& arguments, Terminal& terminal) {
  const std::string name = arguments.positionals().front();
  const fs::path folder = arguments.get("--plan");
  if (!usable_as_file(name)) {
    terminal.error(
        fmt::format("the name '{}' cannot be used; allowed: letters, digits, '.', '-', '_', 1 to 100 of them",
                    escaped(name)));
    return Exit::usage;
  }
  const auto address = Prefix::parse(arguments.get("--address"));
  if (!address) return report(address.error().at("--address"), terminal);
  if (!fs::is_directory(folder)) {
    terminal.error(fmt::format("'{}' is no folder; --plan takes the plan's folder", folder.string()));
    return Exit::usage;
  }
  const Status added = add_to(folder, name, entry_text(name, *address, !arguments.has("--unsigned")));
  if (!added) return report(added.error(), terminal);
  const std::string secret = (folder / "secrets" / name).string();
  if (arguments.has("--json")) {
    terminal.line(
        nlohmann::json{{"name", name}, {"address", address->text()}, {"secret_file", secret}}.dump(2));
  } else {
    terminal.line(
        fmt::format("client {} added with address {}; its new shared secret is in {}\n"
                    "put it into force: jembatan plan reload --node NODE-FILE (or SIGHUP to jembatand)",
                    name, address->text(), secret));
  }
  return Exit::done;
}

}  // namespace

std::vector<Command> client_commands() {
  return {{"client add",
           "Add a client to a plan's folder, with a new shared secret",
           "jembatan client add kerapu-deck-3 --address 192.0.2.48/28 --plan /etc/jembatan/plan",
           {{"--address", "ADDRESS", "an address or a prefix", true},
            {"--plan", "FOLDER", "the plan's folder", true},
            {"--unsigned", "", "the client does not sign its requests with Message-Authenticator"},
            {"--json", "", "one JSON document instead of text"}},
           {"NAME", "the client's name", true, false},
           add}};
}

}  // namespace jembatan::cli
