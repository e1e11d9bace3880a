#pragma once
// Attribute values as text and back.
#include "dictionary/catalogue.h"
#include "wire/attribute.h"

namespace jembatan::dictionary {

/// A value without tag, for people: names for numbers, addresses, quoted text with bad octets escaped; octets
/// as 0x…. A value that does not fit its type is shown as octets. Hidden values are named, never shown.
std::string print_value(const Definition& definition, OctetView value);

/// The octets of a value written as text (without tag).
///   text    as print_value writes it; quotes (inside which \\xNN and \\\\ stand for octets) and the names'
///   letter case are free, octets as 0x…, numbers also as such,
///           for type integer also durations ("12h" is 43200)
///   errors  Errc::malformed, Errc::too_long; the text says what is allowed
Result<Octets> parse_value(const Definition& definition, std::string_view text);

/// A number, decimal or 0x…, for messages that name it.
///   errors  Errc::malformed with the range
Result<std::uint64_t> parse_number(std::string_view text, std::uint64_t most);

/// Octets as 0x…, "" for none.
std::string octets_text(OctetView value);

/// True if the tag stands in the first of the value's four octets (RFC 2868 §3.1), not in front of it.
bool tag_in_number(const Definition& definition);
inline constexpr std::uint8_t kLastTag = 0x1F;  ///< RFC 2868 §3.1

}  // namespace jembatan::dictionary
