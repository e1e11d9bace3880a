#pragma once
// The socket below a connection to a directory.
#include <chrono>

#include "base/clock.h"
#include "base/result.h"
#include "plan/directory.h"

struct sockbuf;  // of <lber.h>

namespace jembatan::directory {

/// Connects to the first address of a server that takes it.
///   returns  the socket, which is the caller's
///   errors   Errc::unreachable: why not
Result<int> connected_socket(const plan::DirectoryAccess::Server& server, Duration within);

/// By when what is being done must be over, and how much may come of it: libldap itself waits for ever
/// for a server that stops in the middle of a handshake or of an answer, and keeps whatever it is sent.
struct Limit {
  TimePoint until{};
  std::int64_t octets = 0;  ///< that are left
};
/// From now on each reading and writing ends with an error when the limit is reached. The limit outlives the
/// connection.
void hold_to(sockbuf* socket, Limit& limit);

}  // namespace jembatan::directory
