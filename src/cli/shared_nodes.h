#pragma once
#include "cli/command.h"

namespace jembatan::cli {

/// What the database that a node shares with others knows of them.
Exit list_shared_nodes(const Arguments& arguments, Terminal& terminal);
/// node admit.
std::vector<Command> shared_node_commands();

}  // namespace jembatan::cli
