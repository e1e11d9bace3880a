#pragma once
// Changing attributes at a point of a request's life, as the plan's edits say.
#include <functional>

#include "decide/decide.h"
#include "dictionary/encode.h"

namespace jembatan::decide {

/// Opens and hides the hidden values of one packet. Without functions they are out of reach: an edit that
/// needs one is not done.
struct HiddenValues {
  std::function<Result<Octets>(dictionary::Hiding, OctetView)> open = {};
  dictionary::Hide hide = {};
};

/// Does all edits of a point that match, in their order.
///   facts    with the packet; also what is known at that point
///   lines    if given: a line for each edit that was looked at, for people; hidden values are not in them
///   returns  the changed packet; nothing if none was done
std::optional<Octets> apply_edits(const plan::Plan& plan, plan::EditPoint point, condition::Facts facts,
                                  const HiddenValues& hidden, std::vector<std::string>* lines = nullptr);

}  // namespace jembatan::decide
