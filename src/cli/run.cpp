#include "cli/run.h"

#include <CLI/CLI.hpp>
#include <algorithm>
#include <csignal>
#include <cstring>
#include <map>
#include <memory>

#include "base/text.h"
#include "cli/command.h"
#include "cli/wrong_words.h"

namespace jembatan::cli {
namespace {

constexpr std::string_view kConcealed[] = {"--password", "--answer", "--secret"};

// Copies the arguments, then overwrites the values that must not be seen.
std::vector<std::string> take_arguments(int argc, char** argv) {
  std::vector<std::string> out;
  bool conceal_next = false;
  for (int i = 1; i < argc; ++i) {
    out.emplace_back(argv[i]);
    char* begin = argv[i];
    bool conceal = std::exchange(conceal_next, false);
    for (const std::string_view option : kConcealed) {
      if (out.back() == option) conceal_next = true;
      if (out.back().starts_with(std::string(option) + "=")) {
        begin = argv[i] + option.size() + 1;
        conceal = true;
      }
    }
    if (conceal) std::memset(begin, '*', std::strlen(begin));
  }
  return out;
}

struct Parsed {
  std::map<std::string, std::string> values;
  std::map<std::string, std::vector<std::string>> lists;
  std::map<std::string, bool> flags;
  std::vector<std::string> positionals;
};

// Descriptions go on below themselves, in the terminal's width.
class Help : public CLI::Formatter {
 public:
  explicit Help(std::size_t width) : width_(width) { column_width(kNames); }

  std::string make_option(const CLI::Option* option, bool is_positional) const override {
    return row(make_option_name(option, is_positional) + make_option_opts(option), make_option_desc(option));
  }
  std::string make_subcommand(const CLI::App* sub) const override {
    return row(sub->get_name(), sub->get_description());
  }
  std::string make_description(const CLI::App* app) const override {
    return join(wrapped(app->get_description(), width_), "\n") + "\n";
  }

 private:
  static constexpr std::size_t kNames = 30;
  std::string row(const std::string& name, const std::string& text) const {
    std::string out = "  " + name;
    if (out.size() + 2 > kNames) {
      out += "\n" + std::string(kNames, ' ');
    } else {
      out.append(kNames - out.size(), ' ');
    }
    return out + join(wrapped(text, width_ - kNames), "\n" + std::string(kNames, ' ')) + "\n";
  }
  std::size_t width_;
};

class Program {
 public:
  explicit Program(std::size_t width)
      : app_("jembatan: the client of the RADIUS server and proxy jembatand", "jembatan") {
    app_.formatter(std::make_shared<Help>(width));
    app_.set_version_flag("--version", std::string("jembatan ") + JEMBATAN_VERSION);
    app_.require_subcommand(1);
    app_.footer(
        "'jembatan COMMAND --help' tells more about one command.\n"
        "Exit codes: 0 done, 1 the answer is no, 2 wrong usage, 3 server not reachable, 4 server refused.");
    for (const Command& command : commands()) add(command);
  }

  CLI::App& app() { return app_; }

  int run_chosen(Terminal& terminal) {
    for (const auto& [command, app] : apps_) {
      if (!app->parsed()) continue;
      const Parsed& parsed = *parsed_.at(command);
      Arguments arguments;
      for (const Option& option : command->options) {
        if (app->count(option.name) == 0) continue;
        if (option.many) {
          arguments.set_all(option.name, parsed.lists.at(option.name));
          continue;
        }
        arguments.set(option.name, option.value.empty() ? "yes" : parsed.values.at(option.name));
      }
      arguments.set_positionals(parsed.positionals);
      return static_cast<int>(command->run(arguments, terminal));
    }
    return static_cast<int>(Exit::usage);
  }

 private:
  // "client secret show" is `show` below `secret` below `client`; each is made when its first command comes.
  CLI::App* place_for(const Command& command) {
    CLI::App* parent = &app_;
    std::size_t begin = 0;
    for (std::size_t end = command.path.find(' '); end != std::string::npos;
         begin = end + 1, end = command.path.find(' ', begin)) {
      CLI::App*& noun = nouns_[command.path.substr(0, end)];
      if (noun == nullptr) {
        noun = parent->add_subcommand(command.path.substr(begin, end - begin),
                                      verbs_below(command.path.substr(0, end + 1)));
        noun->require_subcommand(1);
      }
      parent = noun;
    }
    return parent->add_subcommand(command.path.substr(begin), command.summary);
  }

  static std::string verbs_below(const std::string& prefix) {
    std::vector<std::string> verbs;
    for (const Command& command : commands()) {
      if (!command.path.starts_with(prefix)) continue;
      const std::string verb =
          command.path.substr(prefix.size(), command.path.find(' ', prefix.size()) - prefix.size());
      if (std::find(verbs.begin(), verbs.end(), verb) == verbs.end()) verbs.push_back(verb);
    }
    return join(verbs, ", ");
  }

  void add(const Command& command) {
    CLI::App* app = place_for(command);
    app->footer("Example:\n  " + command.example);
    Parsed& parsed = *(parsed_[&command] = std::make_unique<Parsed>());
    for (const Option& option : command.options) {
      const std::string names = option.letter.empty() ? option.name : option.letter + "," + option.name;
      if (option.many) {
        app->add_option(names, parsed.lists[option.name], option.meaning)
            ->type_name(option.value)
            ->expected(1)
            ->allow_extra_args(false)  // of a list, what comes behind would be taken, too
            ->take_all();
        continue;
      }
      CLI::Option* added = option.value.empty()
                               ? app->add_flag(names, parsed.flags[option.name], option.meaning)
                               : app->add_option(names, parsed.values[option.name], option.meaning);
      if (!option.value.empty()) added->type_name(option.value);
      if (option.required) added->required();
    }
    if (!command.positional.name.empty()) {
      auto* added = app->add_option(command.positional.name, parsed.positionals, command.positional.meaning);
      added->type_name("");
      if (command.positional.required) added->required();
      if (!command.positional.many) added->expected(command.positional.required ? 1 : 0, 1);
    }
    apps_[&command] = app;
  }

  CLI::App app_;
  std::map<std::string, CLI::App*> nouns_;
  std::map<const Command*, CLI::App*> apps_;
  std::map<const Command*, std::unique_ptr<Parsed>> parsed_;
};

}  // namespace

int run(int argc, char** argv) {
  std::signal(SIGPIPE, SIG_DFL);
  std::vector<std::string> arguments = take_arguments(argc, argv);
  Terminal terminal;
  try {
    if (const auto wrong = wrong_words(arguments)) {
      terminal.error(*wrong);
      return static_cast<int>(Exit::usage);
    }
    Program program(terminal.width());
    try {
      std::reverse(arguments.begin(), arguments.end());  // as CLI11 wants them
      program.app().parse(arguments);
    } catch (const CLI::ParseError& error) {
      return program.app().exit(error) == 0 ? static_cast<int>(Exit::done) : static_cast<int>(Exit::usage);
    }
    return program.run_chosen(terminal);
  } catch (const std::exception& error) {
    terminal.error(std::string(error.what()) +
                   "\nThis is a mistake of ours: please report it with this line.");
    return static_cast<int>(Exit::bug);
  }
}

}  // namespace jembatan::cli
