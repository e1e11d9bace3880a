#pragma once
// The API's calls whose answers go on while things happen.
#include "admin/asked.h"

namespace jembatan::admin {

/// Server-sent events: one JSON document each; a comment every second shows that the line is alive.
void follow_events(const Asked& asked);
/// The traffic of a client, a user or all, for a time, as a capture file that grows while it happens.
void capture_traffic(const Asked& asked);

}  // namespace jembatan::admin
