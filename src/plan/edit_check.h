#pragma once
#include "plan/model.h"

namespace jembatan::plan {

bool changes_nothing(const Edit& edit);

/// Where it would show a part of a hidden value, which a pattern takes out of it, in an attribute that is not
/// hidden; a sentence for each.
std::vector<std::string> leaks_of(const Edit& edit);

}  // namespace jembatan::plan
