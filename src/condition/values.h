#pragma once
// Where a condition's operands come from, and what shape they have.
#include <optional>

#include "base/ip.h"
#include "condition/condition.h"
#include "dictionary/layout.h"

namespace jembatan::condition {

/// How values of an attribute are compared.
enum class Shape : std::uint8_t { number, address, octets };
Shape shape_of(const dictionary::Definition& attribute);

/// True if conditions can look at it: it is neither hidden, nor holds others, nor may be cut into pieces
/// (long-extended).
bool is_reachable(const dictionary::Definition& attribute);

/// Nothing if the value has another length than its type.
std::optional<std::uint64_t> number_in(const dictionary::Definition& attribute, OctetView value);
std::optional<IpAddress> address_in(OctetView value);

/// The facts that are one text, by their names in the language: user, realm, client, listener, method, code,
/// route, group, server.
std::optional<Fact> fact_named(std::string_view name);
std::vector<std::string> fact_names();
std::string_view text_fact(Fact fact, const Facts& facts);

/// The facts of which there are many, each by its key: "client.label.place", "directory.title".
struct KeyedFact {
  Fact fact{};
  std::string key;  ///< may be empty: it is missing
};
std::optional<KeyedFact> keyed_fact_named(std::string_view name);
inline constexpr std::string_view kKeyedFacts = "client.label.KEY, directory.NAME";
bool is_keyed(Fact fact);
/// Nothing if there is none of that key.
std::optional<std::string_view> keyed_fact(Fact fact, const std::string& key, const Facts& facts);

/// What the named groups of a pattern match in a value; nothing if it does not match.
void capture(const re2::RE2& pattern, std::string_view value, Captures& out);

/// Calls `see` with each value of an attribute, without its tag, until it returns false.
template <class See>
void each_value(const wire::PacketView& packet, const dictionary::Definition& attribute,
                const dictionary::Catalogue& catalogue, See see);

namespace detail {
OctetView without_tag(const dictionary::Definition& attribute, OctetView value);
/// The value behind the numbers of an extended attribute (RFC 6929 §2.1, §2.4), if they are those of the
/// path; the value itself for a plain one.
std::optional<OctetView> below_extended(const dictionary::Path& path, OctetView value);
/// The next attribute of a vendor's octets; takes it off them. Nothing at the end, or where the format
/// breaks.
std::optional<std::pair<std::uint32_t, OctetView>> next_of(const dictionary::Vendor& vendor,
                                                           OctetView& octets);
}  // namespace detail

// What stands at the end of the path below `value`: the numbers from `level` on name tlvs (RFC 6929 §2.3).
// False as soon as `see` is.
template <class See>
bool each_inside(const dictionary::Definition& attribute, std::size_t level, OctetView value, See& see) {
  if (level == attribute.path.size()) return see(detail::without_tag(attribute, value));
  while (value.size() >= 2 && value[1] >= 2 && value[1] <= value.size()) {
    if (value[0] == attribute.path[level] &&
        !each_inside(attribute, level + 1, value.subspan(2, value[1] - 2U), see))
      return false;
    value = value.subspan(value[1]);
  }
  return true;
}

template <class See>
void each_value(const wire::PacketView& packet, const dictionary::Definition& attribute,
                const dictionary::Catalogue& catalogue, See see) {
  const dictionary::Path& path = attribute.path;
  if (path.size() == 1) {  // nearly all of them
    const auto type = static_cast<wire::AttributeType>(path.front());
    for (const wire::Attribute found : packet.attributes()) {
      if (found.type == type && !see(detail::without_tag(attribute, found.value))) return;
    }
    return;
  }
  const bool of_vendor = dictionary::is_vendors(path);
  const dictionary::Vendor* vendor = of_vendor ? catalogue.vendor(path[1]) : nullptr;
  if (of_vendor && vendor == nullptr) return;
  for (const wire::Attribute found : packet.attributes()) {
    if (static_cast<std::uint32_t>(found.type) != path.front()) continue;
    if (!of_vendor) {
      const auto value = detail::below_extended(path, found.value);
      if (value && !each_inside(attribute, dictionary::top_of(path), *value, see)) return;
      continue;
    }
    if (found.value.size() < 4 || load32(found.value.data()) != path[1]) continue;
    OctetView inside = found.value.subspan(4);
    while (const auto next = detail::next_of(*vendor, inside)) {
      if (next->first == path[2] && !each_inside(attribute, 3, next->second, see)) return;
    }
  }
}

}  // namespace jembatan::condition
