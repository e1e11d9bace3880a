#pragma once
// The API's calls about the plan.
#include "admin/asked.h"

namespace jembatan::admin {

void reload_plan(const Asked& asked);
void apply_plan(const Asked& asked);
void preview_plan(const Asked& asked);
void change_plan(const Asked& asked);
void restore_plan(const Asked& asked);
void list_revisions(const Asked& asked);
void show_difference(const Asked& asked);
void show_files(const Asked& asked);
void list_objects(const Asked& asked);

}  // namespace jembatan::admin
