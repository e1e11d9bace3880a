#pragma once
#include <nlohmann/json_fwd.hpp>

#include "base/secret.h"
#include "cli/command.h"

namespace jembatan::cli {

/// Users from a spreadsheet.
Command user_import_command();

/// Puts into the fields of a user what is kept of a password: a hash, or with `clear` the password itself.
///   errors  as identity::StoredPassword::make_hash
Status keep_password(const Secret& password, bool clear, nlohmann::json& fields);

}  // namespace jembatan::cli
