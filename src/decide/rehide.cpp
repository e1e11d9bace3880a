#include "decide/rehide.h"

#include <algorithm>

#include "dictionary/layout.h"
#include "dictionary/value_text.h"
#include "wire/hidden.h"

namespace jembatan::decide {
namespace {

using dictionary::Hiding;
using dictionary::Vendor;

OctetView whole(const wire::PacketView& packet, const wire::Attribute& attribute) {
  return packet.octets().subspan(attribute.offset, attribute.value.size() + wire::kAttributeHeader);
}

// Opens and hides a salted value in place; the salt stays, so does the length. What cannot be opened stays.
void rehide_salted(OctetSpan hidden, const HiddenWith& from, const HiddenWith& to) {
  auto opened = wire::reveal_salted(hidden, from.request, from.secret);
  if (!opened) return;
  const auto again = wire::hide_salted(*opened, load16(hidden.data()), to.request, to.secret);
  wipe(*opened);
  // A sender may have padded with a block more than needed: then the copy is left as it is.
  if (again && again->size() == hidden.size()) std::copy(again->begin(), again->end(), hidden.begin());
}

// The same for what is hidden as User-Password is (RFC 2548 §2.4.1); padding is kept.
void rehide_plain(OctetSpan hidden, const HiddenWith& from, const HiddenWith& to) {
  auto opened = wire::reveal_password(hidden, from.request, from.secret);
  if (!opened) return;
  opened->resize(hidden.size());
  const auto again = wire::hide_password(*opened, to.request, to.secret);
  wipe(*opened);
  std::copy(again->begin(), again->end(), hidden.begin());
}

// The hidden values among the attributes of one Vendor-Specific, in place.
void rehide_vendor(OctetSpan value, const Rehiding& with) {
  if (value.size() < 4) return;
  const std::uint32_t number = load32(value.data());
  const Vendor* vendor = with.catalogue.vendor(number);
  if (vendor == nullptr || vendor->type_octets != 1 || vendor->length_octets != 1) return;
  for (std::size_t at = 4; at + 2 <= value.size();) {
    const std::size_t size = value[at + 1];
    if (size < 2 || size > value.size() - at) return;
    const auto* definition = with.catalogue.at({dictionary::kVendorSpecific, number, value[at]});
    const Hiding hiding = definition == nullptr ? Hiding::none : definition->hiding;
    if (hiding == Hiding::salted) rehide_salted(value.subspan(at + 2, size - 2), with.from, with.to);
    if (hiding == Hiding::user_password) rehide_plain(value.subspan(at + 2, size - 2), with.from, with.to);
    at += size;
  }
}

}  // namespace

Status Rehiding::copy(const wire::PacketView& packet, const wire::Attribute& attribute,
                      wire::PacketBuilder& out) const {
  const auto number = static_cast<std::uint8_t>(attribute.type);
  const auto* definition = catalogue.numbered(number);
  const Hiding hiding = definition == nullptr ? Hiding::none : definition->hiding;
  const bool vendors = number == dictionary::kVendorSpecific;
  if (hiding == Hiding::none && !vendors) return out.add_encoded(whole(packet, attribute));
  if (hiding == Hiding::user_password) {
    auto password = wire::reveal_password(attribute.value, from.request, from.secret);
    if (!password) return password.error();
    const Status added =
        out.add(attribute.type, OctetView(*wire::hide_password(*password, to.request, to.secret)));
    wipe(*password);
    return added;
  }
  Octets value(attribute.value.begin(), attribute.value.end());
  if (vendors) {
    rehide_vendor(value, *this);
  } else {
    const bool tagged = definition->tagged && !value.empty() && value[0] <= dictionary::kLastTag;
    rehide_salted(OctetSpan(value).subspan(tagged ? 1 : 0), from, to);
  }
  return out.add(attribute.type, OctetView(value));
}

}  // namespace jembatan::decide
