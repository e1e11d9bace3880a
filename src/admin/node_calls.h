#pragma once
// The API's calls about the node itself, its sessions and records.
#include "admin/asked.h"

namespace jembatan::admin {

void show_metrics(const Asked& asked);
void show_node(const Asked& asked);
void list_sessions(const Asked& asked);
void list_records(const Asked& asked);
void show_queue(const Asked& asked);

}  // namespace jembatan::admin
