#pragma once
// KEY=VALUE on the command line: one field of an object.
#include <nlohmann/json.hpp>

#include "base/result.h"

namespace jembatan::cli {

struct Assignment {
  std::string key;       ///< "address", "labels.place", "server.reef-1.weight"
  nlohmann::json value;  ///< null: take the field away
};

/// Reads "KEY=VALUE". VALUE is a number, true or false, an array or table as TOML writes them, "quoted text",
/// or text as it is; @FILE stands for what is in the file; nothing takes the field away.
///   errors  Errc::malformed: no KEY=VALUE, or a secret in the open: everybody on the machine can see command
///           lines; Errc::not_found, Errc::io: the file
Result<Assignment> read_assignment(const std::string& text);

}  // namespace jembatan::cli
