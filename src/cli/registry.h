#pragma once
// The IANA registry of attribute types, in its CSV form.
#include <string>
#include <vector>

#include "dictionary/catalogue.h"

namespace jembatan::cli {

struct RegistryRow {
  dictionary::Path path;
  std::string name;
  dictionary::DataType type{};
  std::string reference;
};

struct RegistryRows {
  std::vector<RegistryRow> attributes;
  std::size_t passed_over = 0;        ///< ranges, unassigned and reserved rows, rows without a data type
  std::vector<std::string> problems;  ///< "row 7: …"
};

/// Reads Value,Description,Data Type,Reference (RFC 4180 quoting).
RegistryRows read_registry(std::string_view csv);
/// A dictionary file with the rows that the catalogue does not have.
std::string registry_toml(const RegistryRows& rows, const dictionary::Catalogue& known);
std::size_t known_of(const RegistryRows& rows, const dictionary::Catalogue& known);

}  // namespace jembatan::cli
