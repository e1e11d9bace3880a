#include "decide/assign.h"

#include <fmt/format.h>

#include "base/text.h"
#include "condition/values.h"

namespace jembatan::decide {

Result<Octets> made_of(const plan::Assignment& assignment, const condition::Facts& facts,
                       const condition::Captures& captures, const dictionary::Hide& hide) {
  if (assignment.hidden) {
    return dictionary::encode(*facts.catalogue, assignment.name, text_of(assignment.hidden->reveal()), hide);
  }
  if (!assignment.text) return assignment.fixed;
  std::string missing;
  auto text = assignment.text->fill(facts, captures, missing);
  if (!text) return fail(Errc::not_found, fmt::format("{} is not there", missing));
  if (text->empty() && !assignment.is_hidden())  // RFC 2865 §5: text and string have one octet or more
    return fail(Errc::malformed, "the value would be empty");
  const bool octets = assignment.attribute != nullptr &&
                      condition::shape_of(*assignment.attribute) == condition::Shape::octets;
  if (octets) text = '"' + escaped(*text) + '"';  // what comes from outside is not read as an escape
  return dictionary::encode(*facts.catalogue, assignment.name, *text, hide);
}

}  // namespace jembatan::decide
