#pragma once
// Calls about the servers that the node forwards to.
#include "admin/asked.h"

namespace jembatan::admin {

void list_servers(const Asked& asked);
/// How what goes to groups compares with their mirrors.
void list_mirrors(const Asked& asked);
/// The node asks one of them, port by port.
void check_server(const Asked& asked);

}  // namespace jembatan::admin
