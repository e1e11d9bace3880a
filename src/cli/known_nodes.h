#pragma once
// The nodes that this person's commands know besides the one that is named: for what goes over several hops.
#include "cli/command.h"

namespace jembatan::cli {

/// One node, as the options that name it.
struct KnownNode {
  std::string name;
  Arguments options;
};

/// Those of the demo chain, if that is where the options lead; otherwise those of the person's file.
///   errors  Errc::malformed: the file
Result<std::vector<KnownNode>> known_nodes(const Arguments& arguments);

/// node add, node list, node forget.
std::vector<Command> known_node_commands();

}  // namespace jembatan::cli
