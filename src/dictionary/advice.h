#pragma once
#include "dictionary/describe.h"

namespace jembatan::dictionary {

/// What the tables of the RFCs say against the attributes of a packet: one that must not stand in such a
/// packet, one that stands there too often. Attributes whose table the catalogue does not know are passed
/// over.
std::vector<std::string> advise(wire::Code code, const std::vector<Described>& lines);

}  // namespace jembatan::dictionary
