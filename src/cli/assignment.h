#pragma once
// KEY=VALUE on the command line: one field of an object.
#include <nlohmann/json_fwd.hpp>
#include <string>

#include "base/result.h"

namespace jembatan::cli {

/// Reads "KEY=VALUE" into `fields`. KEY is "address", "labels.place", "server.reef-1.weight"; "groups+" and
/// "groups-" change a list by its items. VALUE is a number, true or false, an array or table as TOML writes
/// them, "quoted text", or text as it is; a date as parse_moment() reads it where one is wanted; @FILE stands
/// for what is in the file; nothing, or null, takes the field away.
///   errors  Errc::malformed: no KEY=VALUE, or a secret in the open: everybody on the machine can see command
///           lines; Errc::not_found, Errc::io: the file
Status read_assignment(const std::string& text, nlohmann::json& fields);

}  // namespace jembatan::cli
