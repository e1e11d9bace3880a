#pragma once
#include "document/reading.h"
#include "plan/draft.h"

namespace jembatan::plan {

/// What a table of attributes is for: what may stand in it differs.
enum class AssignedIn : std::uint8_t { accept, reject, edit };

/// Reads a table of attributes: names from the dictionary, and "vlan", which stands for the three tunnel
/// attributes that must agree (RFC 3580 §3.31). A value may be an array: the attribute is then there several
/// times. Texts may have places that are filled in from the request (condition/template.h). Attributes that
/// the RFCs' tables forbid in that packet, and those that the server writes itself, become problems. Hidden
/// attributes hold secrets (outside.h).
Assignments read_assignments(document::Reading& reading, const document::Entry& table, const Context& context,
                             AssignedIn packet);

/// Whole attributes that need not be filled in, for the packet's size.
std::size_t size_of(const Assignments& assignments);

}  // namespace jembatan::plan
