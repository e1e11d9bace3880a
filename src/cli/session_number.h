#pragma once
#include "accounting/sessions.h"
#include "cli/command.h"

namespace jembatan::cli {

/// The session that a command's first word names: "17", "3/17".
Result<std::int64_t> session_of(const Arguments& arguments);

}  // namespace jembatan::cli
