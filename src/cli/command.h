#pragma once
// One table of commands; parsing, help and the reference are made from it.
#include <functional>
#include <map>
#include <string>
#include <string_view>
#include <vector>

#include "base/result.h"
#include "cli/terminal.h"

namespace jembatan::cli {

/// Exit codes of every command.
enum class Exit : int {
  done = 0,
  no = 1,           ///< the answer is no: Access-Reject, a check found errors, something differs
  usage = 2,        ///< wrong usage
  unreachable = 3,  ///< the server cannot be reached
  refused = 4,      ///< the server refused: rights, conflict
  bug = 70,         ///< a mistake of ours
};

struct Option {
  std::string name;     ///< "--user"
  std::string value;    ///< what the value is called in help; empty: a flag
  std::string meaning;  ///< one line
  bool required = false;
  std::string letter = {};  ///< "-m"; may be empty
  bool many = false;        ///< may be given more than once: see Arguments::all
};

/// Values behind the options.
struct Positional {
  std::string name;  ///< "ATTRIBUTE=VALUE"; empty: the command takes none
  std::string meaning;
  bool required = false;
  bool many = false;
};

/// What was given on the command line.
class Arguments {
 public:
  bool has(std::string_view name) const { return values_.find(name) != values_.end(); }
  std::string get(std::string_view name, std::string_view fallback = "") const;
  /// The values of an option that may be given more than once.
  std::vector<std::string> all(std::string_view name) const;
  const std::vector<std::string>& positionals() const { return positionals_; }

  void set(std::string name, std::string value) { values_[std::move(name)] = std::move(value); }
  void set_all(std::string name, std::vector<std::string> values) {
    lists_[std::move(name)] = std::move(values);
  }
  void set_positionals(std::vector<std::string> values) { positionals_ = std::move(values); }

 private:
  std::map<std::string, std::string, std::less<>> values_;
  std::map<std::string, std::vector<std::string>, std::less<>> lists_;
  std::vector<std::string> positionals_;
};

struct Command {
  std::string path;     ///< "ask access"
  std::string summary;  ///< one line
  std::string example;  ///< a whole command line
  std::vector<Option> options;
  Positional positional;
  std::function<Exit(const Arguments& arguments, Terminal& terminal)> run;
};

/// All commands, in the order of the help.
const std::vector<Command>& commands();

// One function a noun.
std::vector<Command> ask_commands();
Command ask_load_command();
std::vector<Command> follow_commands();
std::vector<Command> journal_commands();
std::vector<Command> plan_commands();
Command plan_preview_command();
std::vector<Command> client_commands();
std::vector<Command> user_commands();
std::vector<Command> factor_commands();
std::vector<Command> user_check_commands();
std::vector<Command> realm_commands();
std::vector<Command> group_commands();
std::vector<Command> directory_commands();
std::vector<Command> live_group_commands();
std::vector<Command> route_commands();
std::vector<Command> access_commands();
std::vector<Command> reply_set_commands();
std::vector<Command> edit_commands();
std::vector<Command> sign_in_commands();
std::vector<Command> explain_commands();
std::vector<Command> dictionary_commands();
std::vector<Command> decode_commands();
std::vector<Command> capture_commands();
std::vector<Command> server_commands();
std::vector<Command> session_commands();
std::vector<Command> session_device_commands();
std::vector<Command> device_commands();
std::vector<Command> accounting_commands();
Command accounting_export_command();
Command accounting_usage_command();
std::vector<Command> reconcile_commands();
std::vector<Command> node_commands();
std::vector<Command> audit_commands();
std::vector<Command> rehearse_commands();
std::vector<Command> lab_commands();

}  // namespace jembatan::cli
