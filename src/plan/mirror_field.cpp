#include "plan/mirror_field.h"

#include <fmt/format.h>

#include "base/text.h"
#include "condition/values.h"
#include "dictionary/encode.h"

namespace jembatan::plan {

using document::Entry;
using document::Kind;
using document::Reading;

namespace {

void read_compared(Reading& r, const Entry& e, const dictionary::Catalogue& catalogue, Mirror& out) {
  for (const std::string& name : r.texts(e)) {
    const dictionary::Definition* attribute = dictionary::definition_of(catalogue, name);
    if (attribute != nullptr && condition::is_reachable(*attribute)) {
      out.compare.push_back(attribute);
      continue;
    }
    const std::string why = attribute == nullptr ? "no dictionary knows" : "cannot be compared";
    r.wrong(e, fmt::format("'compare' holds {}, which {}", escaped(name), why),
            "attributes of the dictionaries that are neither hidden nor hold others");
  }
}

}  // namespace

std::optional<MirrorParts> read_mirror(Reading& r, const Entry& e, const dictionary::Catalogue& catalogue) {
  if (!r.expect(e, Kind::table)) return std::nullopt;
  MirrorParts out;
  for (const Entry& inner : e.value.entries) {
    if (inner.key == "to") {
      if (r.expect(inner, Kind::text)) out.to = inner;
    } else if (inner.key == "percent") {
      out.mirror.percent = static_cast<unsigned>(r.integer(inner, 1, 100).value_or(100));
    } else if (inner.key == "compare") {
      read_compared(r, inner, catalogue, out.mirror);
    } else {
      r.unknown_key(inner, "mirror", {"to", "percent", "compare"});
    }
  }
  if (!out.to.key.empty()) return out;
  r.wrong(e, "'mirror' is a table without 'to'", "{ to = \"group:NAME\" }");
  return std::nullopt;
}

}  // namespace jembatan::plan
