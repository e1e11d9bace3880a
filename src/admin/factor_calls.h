#pragma once
#include "admin/asked.h"

namespace jembatan::admin {

void list_enrolments(const Asked& asked);
void try_code(const Asked& asked);
void unlock_user(const Asked& asked);

}  // namespace jembatan::admin
