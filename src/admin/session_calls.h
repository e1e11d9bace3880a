#pragma once
// The API's calls that ask the device of a session to end or to change it (RFC 5176).
#include "admin/asked.h"

namespace jembatan::admin {

void disconnect_session(const Asked& asked);
void change_session(const Asked& asked);

}  // namespace jembatan::admin
