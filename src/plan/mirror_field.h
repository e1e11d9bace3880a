#pragma once
#include "plan/draft.h"

namespace jembatan::plan {

inline constexpr std::string_view kMirrorMeaning =
    "where access requests are sent as well, to see whether it would answer the same: { to = \"group:NAME\", "
    "percent = 1 to 100 (default 100), compare = an array of attributes, besides the code }";

/// A `mirror`; the group that it names is looked up when all groups are known. Nothing, with a problem, if it
/// is none.
std::optional<MirrorParts> read_mirror(document::Reading& r, const document::Entry& e,
                                       const dictionary::Catalogue& catalogue);

}  // namespace jembatan::plan
