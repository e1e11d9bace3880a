#pragma once
#include "admin/asked.h"

namespace jembatan::admin {

void list_directories(const Asked& asked);
void check_directory(const Asked& asked);
void forget_people(const Asked& asked);

}  // namespace jembatan::admin
