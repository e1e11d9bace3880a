#pragma once
// What this process may do, and what the system may do with it.
#include <string_view>

#include "base/result.h"

namespace jembatan::host {

/// Lets this process have so many files and sockets open at a time.
///   errors  Errc::not_allowed: the system's limit is lower; the text says which, and what is needed
Status allow_open_files(std::size_t wanted);

/// Whether the system may write this process's memory, with its secrets, to the disk when it breaks off, and
/// whether other processes of its user may look into it.
enum class CoreDumps : unsigned char { no, yes };
void set_core_dumps(CoreDumps allowed);

/// How many processors this process may use.
unsigned usable_processors();

/// Names the calling thread, for those who look at the process (`top -H`). At most 15 octets count.
void name_thread(std::string_view name);

/// The calling thread has the processor after others: requests come first.
void step_back();

}  // namespace jembatan::host
