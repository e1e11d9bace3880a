#pragma once
#include <nlohmann/json_fwd.hpp>

#include "dictionary/describe.h"

namespace jembatan::bodies {

/// The value of an attribute, typed: a number for a number that has no name, otherwise text, without quotes.
nlohmann::json json_of(const dictionary::Described& line);

}  // namespace jembatan::bodies
