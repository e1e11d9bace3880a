#pragma once
// The API's calls about the node itself.
#include "admin/asked.h"

namespace jembatan::admin {

void show_metrics(const Asked& asked);
void show_node(const Asked& asked);
void list_shared_nodes(const Asked& asked);
void admit_node(const Asked& asked);

}  // namespace jembatan::admin
