#pragma once
// Which dictionaries a command reads names from.
#include "cli/node_access.h"
#include "dictionary/catalogue.h"

namespace jembatan::cli {

/// --dictionary PATH
Option dictionary_option();

/// The standard catalogue with the dictionaries of --dictionary PATH (a file or folder), or those of the plan
/// of the node that --lab, --node or JEMBATAN_NODE names.
///   errors  Errc::malformed with the problems of the files; Errc::not_found
Result<dictionary::CataloguePtr> find_names(const Arguments& arguments);

}  // namespace jembatan::cli
