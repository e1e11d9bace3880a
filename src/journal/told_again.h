#pragma once
#include "plan/plan.h"

namespace jembatan::journal {

/// False for plans that look at values which are not kept: the steps of their requests must be put into words
/// at once, while those values are there. Such are conditions and texts with an answer to a challenge in
/// them, and edits that move or match what is hidden.
bool can_be_told_again(const plan::Plan& plan);

}  // namespace jembatan::journal
