#pragma once
#include "cli/command.h"

namespace jembatan::cli {

/// Clients from a spreadsheet, and back.
Command import_command();
Command export_command();

}  // namespace jembatan::cli
