#include "decide/reasons.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::decide {

std::string with_detail(std::string_view because, std::string_view detail) {
  return detail.empty() ? std::string(because) : fmt::format("{} ({})", because, escaped(detail));
}

}  // namespace jembatan::decide
