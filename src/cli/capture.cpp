// jembatan capture: the node's own traffic into a file that any packet analyser opens.
#include <fcntl.h>
#include <fmt/format.h>
#include <unistd.h>

#include <cerrno>
#include <cstring>

#include "cli/node_access.h"

namespace jembatan::cli {
namespace {

Exit capture(const Arguments& arguments, Terminal& terminal) {
  auto node = NodeClient::open(arguments);
  if (!node) return report(node.error(), terminal);
  std::vector<std::pair<std::string, std::string>> query{{"for", arguments.get("--for", "30s")}};
  if (arguments.has("--client")) query.emplace_back("client", arguments.get("--client"));
  if (arguments.has("--user")) query.emplace_back("user", arguments.get("--user"));
  const std::string path = arguments.get("--out");
  // Packets hold what people do: the file is for its owner alone.
  const int fd = ::open(path.c_str(), O_WRONLY | O_CREAT | O_EXCL | O_CLOEXEC, 0600);
  if (fd < 0) {
    terminal.error(fmt::format("file '{}': {}", path, std::strerror(errno)));
    return Exit::no;
  }
  std::size_t written = 0;
  bool full = false;
  const Status done = node->fetch("/v1/capture", query, [&](std::string_view piece) {
    full = ::write(fd, piece.data(), piece.size()) != static_cast<ssize_t>(piece.size());
    written += piece.size();
    return !full;
  });
  ::close(fd);
  if (!done || full) {
    if (written == 0) ::unlink(path.c_str());
    return done ? report(fail(Errc::io, fmt::format("file '{}' cannot be written further", path)), terminal)
                : report(done.error(), terminal);
  }
  terminal.line(fmt::format("{}: {} octets; to read it here: jembatan decode --capture {} --secret-file FILE",
                            path, written, path));
  return Exit::done;
}

}  // namespace

std::vector<Command> capture_commands() {
  std::vector<Option> options{{"--out", "FILE", "the file to write, which must not be there yet", true},
                              {"--for", "TIME", "how long, 100ms to 1h; default 30s"},
                              {"--client", "NAME", "only the traffic of this client"},
                              {"--user", "NAME", "only requests with this User-Name, and their replies"}};
  for (Option& option : node_options()) options.push_back(std::move(option));
  return {{"capture",
           "Write a node's traffic into a capture file (pcap) that any packet analyser opens",
           "jembatan capture --lab hub --for 30s --out hub.pcap",
           options,
           {},
           capture}};
}

}  // namespace jembatan::cli
