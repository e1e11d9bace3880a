#pragma once
#include <nlohmann/json_fwd.hpp>

#include "base/secret.h"
#include "cli/command.h"

namespace jembatan::cli {

/// Users from a spreadsheet.
Command user_import_command();

/// What is kept of a password: a hash, or the password itself.
enum class Keep : std::uint8_t { hash, clear };

/// Puts into the fields of a user what is kept of a password.
///   errors  as identity::StoredPassword::make_hash
Status keep_password(const Secret& password, Keep keep, nlohmann::json& fields);

}  // namespace jembatan::cli
