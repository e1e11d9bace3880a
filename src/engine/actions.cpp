#include "engine/actions.h"

#include "decide/reasons.h"

namespace jembatan::engine {

std::string reason_text(const Event& event) {
  return decide::with_detail(event.because, event.detail);
}

}  // namespace jembatan::engine
