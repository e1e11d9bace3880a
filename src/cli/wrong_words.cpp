#include "cli/wrong_words.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"
#include "cli/command.h"

namespace jembatan::cli {
namespace {

// The words that may stand behind a prefix like "client secret ".
std::vector<std::string> words_behind(const std::string& prefix) {
  std::vector<std::string> out;
  for (const Command& command : commands()) {
    if (!command.path.starts_with(prefix)) continue;
    const std::string rest = command.path.substr(prefix.size());
    const std::string word = rest.substr(0, rest.find(' '));
    if (std::find(out.begin(), out.end(), word) == out.end()) out.push_back(word);
  }
  return out;
}

// Somebody who knows the verb and not the noun: "enable" is there as "client enable".
std::string elsewhere(const std::string& word) {
  std::vector<std::string> paths;
  for (const Command& command : commands()) {
    if (command.path.ends_with(" " + word)) paths.push_back("'" + command.path + "'");
  }
  return paths.empty() || paths.size() > 12 ? "" : "; there is " + join(paths, ", ");
}

std::string unknown_word(const std::string& prefix, const std::string& word) {
  const auto known = words_behind(prefix);
  const auto near = nearest(word, known);
  return fmt::format("there is no command '{}{}'{}; {}{}: {}", prefix, escaped(word),
                     near ? fmt::format("; nearest: '{}{}'", prefix, *near) : elsewhere(word),
                     prefix.empty() ? "the first word is one of" : "behind '",
                     prefix.empty() ? "" : prefix.substr(0, prefix.size() - 1) + "' stands one of",
                     join(known, ", "));
}

std::optional<std::string> wrong_option(const Command& command, const std::vector<std::string>& arguments,
                                        std::size_t from) {
  std::vector<std::string> known{"--help"};
  for (const Option& option : command.options) known.push_back(option.name);
  for (std::size_t i = from; i < arguments.size(); ++i) {
    const std::string name = arguments[i].substr(0, arguments[i].find('='));
    if (name == "--") return std::nullopt;
    const auto found =
        std::find_if(command.options.begin(), command.options.end(),
                     [&](const Option& option) { return option.name == name || option.letter == name; });
    const bool is_option = name.starts_with("--") && name.size() > 2;
    if (found != command.options.end()) {
      if (!found->value.empty() && name.size() == arguments[i].size()) ++i;  // its value
    } else if (is_option && name != "--help") {
      const auto near = nearest(name, known);
      return fmt::format("'{}' has no option '{}'{}; it has: {}", command.path, escaped(name),
                         near ? fmt::format("; nearest: '{}'", *near) : "", join(known, ", "));
    }
  }
  return std::nullopt;
}

}  // namespace

std::optional<std::string> wrong_words(const std::vector<std::string>& arguments) {
  std::string prefix;
  std::size_t at = 0;
  for (; at < arguments.size(); ++at) {
    const std::string& word = arguments[at];
    if (word.starts_with("-"))
      return prefix.empty() && word.starts_with("--") && word != "--help" && word != "--version"
                 ? std::optional(unknown_word("", word))
                 : std::nullopt;
    const auto known = words_behind(prefix);
    if (std::find(known.begin(), known.end(), word) == known.end()) return unknown_word(prefix, word);
    const std::string path = prefix + word;
    const auto command = std::find_if(commands().begin(), commands().end(),
                                      [&](const Command& one) { return one.path == path; });
    if (command != commands().end()) return wrong_option(*command, arguments, at + 1);
    prefix = path + " ";
  }
  const std::string known = join(words_behind(prefix), ", ");
  if (prefix.empty()) return "which command? One of: " + known + "; 'jembatan --help' says what each does";
  return fmt::format(
      "'{0}' is half a command: behind it stands one of: {1}; 'jembatan {0} --help' says what each does",
      prefix.substr(0, prefix.size() - 1), known);
}

}  // namespace jembatan::cli
