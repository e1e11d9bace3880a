#include "engine/actions.h"

#include <fmt/format.h>

#include "base/text.h"

namespace jembatan::engine {

std::string reason_text(const Event& event) {
  if (event.detail.empty()) return std::string(event.because);
  return fmt::format("{} ({})", event.because, escaped(event.detail));
}

}  // namespace jembatan::engine
