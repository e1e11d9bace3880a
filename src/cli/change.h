#pragma once
// What the commands share that change the plan of a node.
#include "cli/node_access.h"

namespace jembatan::cli {

/// --why, --base, --dry-run, --all, --json, and the options that name a node.
std::vector<Option> change_options();

/// Adds to the body what the options say: message, base, dry_run.
///   errors  Errc::malformed: a base that is no number
Status add_wish(const Arguments& arguments, nlohmann::json& body);

/// Sends the change and prints what came of it.
Exit send_change(const Arguments& arguments, Terminal& terminal, const std::string& path,
                 nlohmann::json body);

/// The changes for people: "~ client 'kerapu-deck-2'", its fields below it, and how many there are.
///   most    objects that are shown: the first few, all with --all
///   all_by  the command that shows the others
inline constexpr const char* kSameWithAll = "the same command with --all";
std::string changes_text(const nlohmann::json& changes, std::size_t most, const Terminal& terminal,
                         const std::string& all_by = kSameWithAll);
std::size_t most_changes(const Arguments& arguments);

/// Advice about the whole plan, or only about the objects that a command has changed.
enum class Advise : std::uint8_t { all, what_changed };

/// "revision 8 is in force", what changed, and advice.
void print_applied(const nlohmann::json& body, const Arguments& arguments, Advise advise, Terminal& terminal);

}  // namespace jembatan::cli
