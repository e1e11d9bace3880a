#pragma once
// Attribute values as text and back.
#include "dictionary/catalogue.h"
#include "wire/attribute.h"

namespace jembatan::dictionary {

/// The value for people: names for numbers, addresses, quoted text with bad octets escaped; octets as 0x….
/// A value that does not fit its type is shown as octets. Hidden values are named, never shown.
std::string print_value(const Definition& definition, OctetView value);

/// "Tunnel-Private-Group-ID:1" with its tag, or "attribute 250" if the catalogue does not know the number.
std::string print_name(const Catalogue& catalogue, const wire::Attribute& attribute);
/// The value of an attribute that the catalogue may not know.
std::string print_value(const Catalogue& catalogue, const wire::Attribute& attribute);

/// The octets of a value written as text (without tag).
///   text    as print_value writes it; quotes and the names' letter case are free, octets as 0x…, numbers
///   also as such,
///           for type integer also durations ("12h" is 43200)
///   errors  Errc::malformed, Errc::too_long; the text says what is allowed
Result<Octets> parse_value(const Definition& definition, std::string_view text);

/// A whole attribute, header and value, from a name, which may carry a tag ("Tunnel-Type:1"), and a value.
///   errors  Errc::not_found: unknown name, with the nearest; those of parse_value
Result<Octets> encode(const Catalogue& catalogue, std::string_view name, std::string_view value);

/// The definition that a name with or without a tag belongs to.
///   errors  Errc::not_found with the nearest name
Result<const Definition*> find_named(const Catalogue& catalogue, std::string_view name);

}  // namespace jembatan::dictionary
