#pragma once
#include "admin/asked.h"

namespace jembatan::admin {

void explain(const Asked& asked);
void check_user(const Asked& asked);

}  // namespace jembatan::admin
