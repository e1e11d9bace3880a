#pragma once
// Shared secrets, passwords and tokens on the command line: out of files and into them, typed unseen, shown
// and rotated.
#include "base/secret.h"
#include "cli/command.h"
#include "wire/shared_secret.h"

namespace jembatan::cli {

/// What is in a file, without white space around it.
///   errors  Errc::malformed: nothing is
Result<Secret> secret_in_file(const std::string& path);

/// Asks for it on the terminal, without showing what is typed.
///   errors  Errc::not_found: there is no terminal; the text goes on with `otherwise`
Result<Secret> typed_secret(const std::string& what, const std::string& otherwise);

/// Asks a question that "y" answers with yes. Without a terminal the answer is no.
bool confirmed(const std::string& question);

/// --out FILE: for a secret that must not stand on the screen.
Option out_option();
/// Before a secret is made: the file of --out must not be there.
Status may_hand_out(const Arguments& arguments);
/// Prints a secret alone on its line, or writes it to the new file of --out.
Status hand_out(const Arguments& arguments, Terminal& terminal, const std::string& secret);

struct NamedSecret {
  std::string owner;  ///< "client kerapu-deck-2", "server reef-homes/reef-1"
  wire::SharedSecret secret;
};
/// All secrets of a node's plan, for administrators; that they were shown is put on record.
Result<std::vector<NamedSecret>> secrets_of_plan(const Arguments& arguments);

/// client secret show, rotate, finish.
std::vector<Command> client_secret_commands();
/// group secret show, rotate: of the servers to forward to.
std::vector<Command> server_secret_commands();

}  // namespace jembatan::cli
