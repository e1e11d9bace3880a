#pragma once
#include "base/octets.h"
#include "dictionary/catalogue.h"
#include "document/reading.h"

namespace jembatan::plan {

/// Encodes a table of reply attributes: names from the dictionary, and "vlan", which stands for the three
/// tunnel attributes that must agree (RFC 3580 §3.31). A value may be an array: the attribute is then sent
/// several times. Wrong entries become problems.
Octets read_reply(document::Reading& reading, const document::Entry& table,
                  const dictionary::Catalogue& catalogue);

}  // namespace jembatan::plan
