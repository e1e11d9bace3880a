#include "cli/reference.h"

#include <fmt/format.h>

#include "cli/command.h"

namespace jembatan::cli {
namespace {

constexpr std::string_view kHead = R"(# Commands

This page is made from the table of commands, as `--help` is.

Results go to standard output, everything else to standard error. Exit codes: 0 done · 1 the answer is no
(Access-Reject, a check found errors) · 2 wrong usage · 3 server not reachable · 4 server refused (rights,
conflict) · 70 a mistake of ours.

The server itself has one option: `jembatand --node node.toml` (see [node.md](node.md)).
)";

std::string usage(const Command& command) {
  std::string out = "jembatan " + command.path;
  for (const Option& option : command.options) {
    const std::string text = option.value.empty() ? option.name : option.name + " " + option.value;
    if (option.required) out += " " + text;
  }
  if (!command.options.empty()) out += " [OPTIONS]";
  if (command.positional.name.empty()) return out;
  const std::string name = command.positional.name + (command.positional.many ? "…" : "");
  return out + (command.positional.required ? " " + name : " [" + name + "]");
}

}  // namespace

std::string commands_markdown() {
  std::string out(kHead);
  for (const Command& command : commands()) {
    out +=
        fmt::format("\n## jembatan {}\n\n{}.\n\n    {}\n\n", command.path, command.summary, usage(command));
    if (!command.options.empty() || !command.positional.name.empty())
      out += "| option | meaning |\n|---|---|\n";
    for (const Option& option : command.options) {
      const std::string value = option.value.empty() ? "" : " " + option.value;
      out += fmt::format("| `{}{}` | {}{} |\n", option.name, value, option.meaning,
                         option.required ? " (required)" : "");
    }
    if (!command.positional.name.empty()) {
      out += fmt::format("| `{}` | {} |\n", command.positional.name, command.positional.meaning);
    }
    out += fmt::format("\nExample: `{}`\n", command.example);
  }
  return out;
}

}  // namespace jembatan::cli
