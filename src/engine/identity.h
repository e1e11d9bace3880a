#pragma once
#include "engine/engine.h"

namespace jembatan::engine {

/// Who asks, as the plan understands the name, and where that leads.
struct Engine::Identity {
  std::string full_name;     ///< with its realm, whether it came with one or the plan assumed it
  std::string realm;         ///< empty if there is none
  std::string name_to_send;  ///< User-Name for the next hop; empty: as it came
  plan::Destination destination;
  plan::AccountingRule accounting;
  std::string_view because;  ///< why it is refused or ignored
};

}  // namespace jembatan::engine
