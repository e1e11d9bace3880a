#pragma once
#include <filesystem>

#include "dictionary/catalogue.h"
#include "document/problems.h"

namespace jembatan::dictionary {

/// Adds the attributes and values of one dictionary file to the catalogue; what is wrong is added to the
/// problems.
void read_into(Catalogue& catalogue, const document::File& file, document::Problems& problems);

/// The standard catalogue and, on top of it, the *.toml files of a folder in the order of their names (or one
/// file). A folder that is not there adds nothing.
CataloguePtr read_catalogue(const std::filesystem::path& path, document::Problems& problems);

/// Every key that a dictionary file may have, for the reference.
std::vector<std::pair<std::string, std::string_view>> dictionary_key_meanings();

}  // namespace jembatan::dictionary
