#pragma once
#include "dictionary/catalogue.h"
#include "document/problems.h"

namespace jembatan::dictionary {

/// Adds the attributes and values of one dictionary file to the catalogue; what is wrong is added to the
/// problems.
void read_into(Catalogue& catalogue, const document::File& file, document::Problems& problems);

}  // namespace jembatan::dictionary
