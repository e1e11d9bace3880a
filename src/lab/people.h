#pragma once
// The directory of a lab in which some people are: OpenLDAP's server of Debian's package, in the lab's
// folder.
#include <string>
#include <string_view>

#include "base/result.h"

namespace jembatan::lab {

/// True if the lab has been made with one.
bool has_directory();
/// Fills it with the demo's people, once; its files are there (world.h).
///   errors  Errc::not_found: slapd is not installed; Errc::io
Status make_directory();
/// Starts it, unless it runs, and waits until it can be asked.
Status start_directory();
/// Sets what is wrong with it: "silent" (it takes connections, and says nothing), "off", or "none", which
/// mends it.
///   errors  Errc::malformed, with these words
Status set_directory_fault(const std::string& what);
inline constexpr std::string_view kDirectory = "directory";  ///< as `lab fault` calls it
/// Stops it, if it runs.
Status stop_directory();
/// Stops and removes it.
Status remove_directory();

}  // namespace jembatan::lab
