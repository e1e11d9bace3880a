#pragma once
#include <nlohmann/json_fwd.hpp>
#include <string>

namespace jembatan::cli {

/// A case of a rehearsal (docs/rehearsals.md) for a request that has happened, as the journal tells it: the
/// same is asked again, and what came of it is expected. What the journal does not keep has to be filled in.
///   entry  whole, as the API gives it
///   node   as the rehearsal names it
std::string case_text(const nlohmann::json& entry, const std::string& node);

}  // namespace jembatan::cli
