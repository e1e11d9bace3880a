#pragma once
// What is wrong with a plan, as the API tells it and as its callers read it.
#include <nlohmann/json_fwd.hpp>

#include "document/problems.h"

namespace jembatan::bodies {

/// {"errors": N, "advice": N, "problems": [{"level", "file", "line", "column", "text", …}]}
nlohmann::json json_of(const document::Problems& problems);

/// The problems that such a body lists.
document::Problems problems_in(const nlohmann::json& body);

}  // namespace jembatan::bodies
