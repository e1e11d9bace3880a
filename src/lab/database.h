#pragma once
// The PostgreSQL of a lab whose nodes share one: of Debian's package, in a folder of its own below /tmp, run
// as a user without rights, reached by a socket in that folder alone.
#include <string>

#include "base/result.h"

namespace jembatan::lab {

/// True if the lab has been made with one.
bool has_database();
/// Makes an empty one, once.
///   errors  Errc::not_found: PostgreSQL is not installed; Errc::io
Status make_database();
/// Starts it, unless it runs, and waits until it can be asked.
Status start_database();
/// Stops it, if it runs.
Status stop_database();
/// Stops and removes it.
Status remove_database();
/// The connection string for nodes.
std::string database_of_lab();

}  // namespace jembatan::lab
