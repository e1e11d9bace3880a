#pragma once
// Values of a plan as JSON and back.
#include <nlohmann/json_fwd.hpp>

#include "base/result.h"
#include "document/value.h"

namespace jembatan::bodies {

/// errors  Errc::malformed: null, a number beyond 64 bits, or nested deeper than any plan is
Result<document::Value> value_of(const nlohmann::json& body, int depth = 0);
nlohmann::json json_of(const document::Value& value);

}  // namespace jembatan::bodies
