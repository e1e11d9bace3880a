#pragma once
#include <string_view>

#include "identity/password.h"

namespace jembatan::identity {

/// What a wrong password looks like beside the right one, for those who help the user: a literal, empty if
/// nothing is striking. It says nothing of either. Of a password that is kept as a slow hash, only what the
/// wrong one itself shows.
std::string_view shape_hint(OctetView typed, const StoredPassword& kept);

}  // namespace jembatan::identity
