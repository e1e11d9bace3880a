#pragma once
// Whole attributes from names and values as text.
#include <functional>

#include "base/octets.h"
#include "dictionary/catalogue.h"

namespace jembatan::dictionary {

/// Hides the value of a hidden attribute for the packet that it is to stand in.
using Hide = std::function<Result<Octets>(Hiding hiding, OctetView value)>;

/// A Hide for packets that are only told about: as long as a hidden value is, and as strict, but nobody's.
Result<Octets> hide_for_nobody(Hiding hiding, OctetView value);

/// Whole attributes, with their headers, from a name and a value.
///   name    "User-Name"; "Tunnel-Type[1]" with a tag; "26.32473.5" or "241.1" by number, known or not
///   value   as parse_value reads it; for a tlv "{ Name=value, Name=value }"
///   hide    for hidden attributes; without it they are refused
///   returns one attribute, or several where the type is cut into pieces (concat, long-extended)
///   errors  Errc::not_found: unknown name, with the nearest; Errc::malformed, Errc::too_long;
///   Errc::not_allowed: hidden
Result<Octets> encode(const Catalogue& catalogue, std::string_view name, std::string_view value,
                      const Hide& hide = {});

/// The same for a value that is octets already.
Result<Octets> wrap(const Catalogue& catalogue, const Definition& definition, OctetView value);

/// What a plan's attribute is, called by its name, with a tag or not, or by its path ("26.32473.5"); null: it
/// is in no dictionary.
const Definition* definition_of(const Catalogue& catalogue, std::string_view name);

/// "Tunnel-Type[1]" is a name with its tag (RFC 2868 §3.1).
struct TaggedName {
  std::string_view name;
  std::optional<std::string_view> tag;
};
TaggedName split_tag(std::string_view text);

/// The definition that a name with or without a tag belongs to.
///   errors  Errc::not_found with the nearest name
Result<const Definition*> find_named(const Catalogue& catalogue, std::string_view name);

}  // namespace jembatan::dictionary
