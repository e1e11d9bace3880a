#pragma once
#include <cstddef>
#include <string_view>

namespace jembatan::bodies {

/// How deeply arrays and objects are nested in a JSON text, without reading it: to be asked before it is
/// read, for reading calls itself for each level.
std::size_t depth_of(std::string_view json);

}  // namespace jembatan::bodies
