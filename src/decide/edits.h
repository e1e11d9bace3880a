#pragma once
// Changing attributes at a point of a request's life, as the plan's edits say.
#include "decide/decide.h"
#include "decide/hidden_values.h"

namespace jembatan::decide {

/// What an edit has at hand besides facts.
struct EditTools {
  HiddenValues& hidden;  ///< of the packet
  std::vector<std::string>* lines =
      nullptr;  ///< if given: a line for each edit that was looked at, for people
};

/// Does all edits of a point that match, in their order.
///   facts    with the packet; also what is known at that point
///   returns  the changed packet; nothing if none was done
std::optional<Octets> apply_edits(const plan::Plan& plan, plan::EditPoint point, condition::Facts facts,
                                  const EditTools& tools);

}  // namespace jembatan::decide
