#pragma once
// Where a condition's operands come from, and what shape they have.
#include <optional>

#include "base/ip.h"
#include "condition/condition.h"

namespace jembatan::condition {

/// How values of an attribute are compared.
enum class Shape : std::uint8_t { number, address, octets };
Shape shape_of(const dictionary::Definition& attribute);

/// True if conditions can look at it: an attribute of the packet itself, or a vendor's in the recommended
/// format.
bool is_reachable(const dictionary::Definition& attribute);

/// Nothing if the value has another length than its type.
std::optional<std::uint64_t> number_in(const dictionary::Definition& attribute, OctetView value);
std::optional<IpAddress> address_in(OctetView value);

/// The facts that are one text, by their names in the language: user, realm, client, listener, method, code,
/// route, group, server.
std::optional<Fact> fact_named(std::string_view name);
std::vector<std::string> fact_names();
std::string_view text_fact(Fact fact, const Facts& facts);
inline constexpr std::string_view kLabel = "client.label.";  ///< before a label's key

/// What the named groups of a pattern match in a value; nothing if it does not match.
void capture(const re2::RE2& pattern, std::string_view value, Captures& out);

/// Calls `see` with each value of an attribute, without its tag, until it returns false.
template <class See>
void each_value(const wire::PacketView& packet, const dictionary::Definition& attribute,
                const dictionary::Catalogue& catalogue, See see);

namespace detail {
OctetView without_tag(const dictionary::Definition& attribute, OctetView value);
/// The next attribute of a vendor's octets; takes it off them. Nothing at the end, or where the format
/// breaks.
std::optional<std::pair<std::uint32_t, OctetView>> next_of(const dictionary::Vendor& vendor,
                                                           OctetView& octets);
}  // namespace detail

template <class See>
void each_value(const wire::PacketView& packet, const dictionary::Definition& attribute,
                const dictionary::Catalogue& catalogue, See see) {
  const bool of_vendor = attribute.path.size() == 3;
  const dictionary::Vendor* vendor = of_vendor ? catalogue.vendor(attribute.path[1]) : nullptr;
  if (of_vendor && vendor == nullptr) return;
  for (const wire::Attribute found : packet.attributes()) {
    if (static_cast<std::uint32_t>(found.type) != attribute.path.front()) continue;
    if (!of_vendor) {
      if (!see(detail::without_tag(attribute, found.value))) return;
      continue;
    }
    if (found.value.size() < 4 || load32(found.value.data()) != attribute.path[1]) continue;
    OctetView inside = found.value.subspan(4);
    while (const auto next = detail::next_of(*vendor, inside)) {
      if (next->first == attribute.path[2] && !see(detail::without_tag(attribute, next->second))) return;
    }
  }
}

}  // namespace jembatan::condition
