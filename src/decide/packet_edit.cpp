#include "decide/packet_edit.h"

#include <fmt/format.h>

#include <algorithm>

#include "condition/values.h"
#include "dictionary/encode.h"
#include "dictionary/layout.h"

namespace jembatan::decide {

using dictionary::Definition;
using wire::kAttributeHeader;

PacketEdit::PacketEdit(const wire::PacketView& packet, const dictionary::Catalogue& catalogue)
    : catalogue_(catalogue), octets_(packet.octets().begin(), packet.octets().end()) {}

void PacketEdit::set_length() {
  octets_[2] = static_cast<std::uint8_t>(octets_.size() >> 8U);
  octets_[3] = static_cast<std::uint8_t>(octets_.size());
}

std::vector<Octets> PacketEdit::values(const Definition& attribute) const {
  std::vector<Octets> out;
  condition::each_value(view(), attribute, catalogue_, [&](OctetView value) {
    out.emplace_back(value.begin(), value.end());
    return true;
  });
  return out;
}

namespace {

// What is left of a Vendor-Specific without one of its attributes; its value, with the vendor's number.
Octets without(OctetView value, const dictionary::Vendor& vendor, std::uint32_t type) {
  Octets out(value.begin(), value.begin() + 4);
  OctetView inside = value.subspan(4);
  while (!inside.empty()) {
    const OctetView before = inside;
    const auto next = condition::detail::next_of(vendor, inside);
    if (!next) {
      append(out, before);  // not in the vendor's format: stays
      break;
    }
    if (next->first != type) append(out, before.first(before.size() - inside.size()));
  }
  return out;
}

}  // namespace

std::size_t PacketEdit::remove(const Definition& attribute) {
  const bool vendors = dictionary::is_vendors(attribute.path);
  const dictionary::Vendor* vendor = vendors ? catalogue_.vendor(attribute.path[1]) : nullptr;
  if (vendors && vendor == nullptr) return npos;
  Octets out(octets_.begin(), octets_.begin() + wire::kHeader);
  std::size_t first = npos;
  for (const wire::Attribute found : view().attributes()) {
    const OctetView whole = OctetView(octets_).subspan(found.offset, found.value.size() + kAttributeHeader);
    const bool same =
        static_cast<std::uint32_t>(found.type) == attribute.path.front() &&
        (!vendors || (found.value.size() > 4 && load32(found.value.data()) == attribute.path[1]));
    const Octets rest = same && vendors ? without(found.value, *vendor, attribute.path[2]) : Octets{};
    if (!same || (vendors && rest.size() == found.value.size())) {
      append(out, whole);
      continue;
    }
    first = std::min(first, out.size());
    if (rest.size() <= 4) continue;
    out.push_back(whole[0]);
    out.push_back(static_cast<std::uint8_t>(rest.size() + kAttributeHeader));
    append(out, rest);
  }
  octets_ = std::move(out);
  set_length();
  return first;
}

std::optional<Octets> with_user_name(const wire::PacketView& packet, std::string_view name,
                                     const dictionary::Catalogue& catalogue) {
  if (name.empty()) return std::nullopt;
  const Definition& user_name =
      *catalogue.numbered(static_cast<std::uint8_t>(wire::AttributeType::user_name));
  const auto made = dictionary::wrap(catalogue, user_name, view_of(name));
  PacketEdit edit(packet, catalogue);
  if (!made || !edit.insert(edit.remove(user_name), *made)) return std::nullopt;
  return edit.take();
}

Status PacketEdit::insert(std::size_t at, OctetView attributes) {
  if (octets_.size() + attributes.size() > wire::kMaxPacket)
    return fail(Errc::too_long, fmt::format("the packet would exceed {} octets", wire::kMaxPacket));
  const auto place = octets_.begin() + static_cast<std::ptrdiff_t>(std::min(at, octets_.size()));
  octets_.insert(place, attributes.begin(), attributes.end());
  set_length();
  return {};
}

}  // namespace jembatan::decide
