#pragma once
// Since when an object is as it is.
#include "revision/archive.h"

namespace jembatan::revision {

/// The revision that gave a field of an object in force the value that it has now.
///   errors  Errc::not_found: no such object; Errc::io
Result<Revision> last_change(Archive& archive, std::string_view kind, std::string_view name,
                             std::string_view field);

/// "since 2026-11-24 07:41:02Z, by harun: in dock".
std::string since_text(const Revision& revision);

}  // namespace jembatan::revision
