#include "bodies/depth.h"

#include <algorithm>

namespace jembatan::bodies {

std::size_t depth_of(std::string_view json) {
  std::size_t depth = 0;
  std::size_t deepest = 0;
  bool in_text = false;
  for (std::size_t i = 0; i < json.size(); ++i) {
    const char c = json[i];
    if (in_text && c == '\\') {
      ++i;
    } else if (c == '"') {
      in_text = !in_text;
    } else if (!in_text && (c == '[' || c == '{')) {
      deepest = std::max(deepest, ++depth);
    } else if (!in_text && (c == ']' || c == '}') && depth > 0) {
      --depth;
    }
  }
  return deepest;
}

}  // namespace jembatan::bodies
