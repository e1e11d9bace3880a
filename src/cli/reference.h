#pragma once
#include <string>

namespace jembatan::cli {

/// docs/commands.md, made from the table of commands.
std::string commands_markdown();

}  // namespace jembatan::cli
