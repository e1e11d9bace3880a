#include "journal/scrub.h"

#include <algorithm>
#include <array>

#include "dictionary/layout.h"
#include "identity/credential.h"
#include "wire/eap.h"

namespace jembatan::journal {
namespace {

using dictionary::Definition;
using wire::Attribute;
using wire::AttributeType;

// Responses and changes of passwords; CHAP-Password, EAP-Message, Message-Authenticator.
constexpr std::array<std::uint32_t, 6> kMicrosoftSecrets{1, 3, 4, 5, 25, 27};
constexpr std::array<std::uint32_t, 3> kSecrets{3, 79, 80};

// Vendor-Specific in the recommended format (RFC 2865 §5.26), with secret ones emptied. What follows no
// format may hold anything: it is left out.
void add_vendors(OctetView value, const dictionary::Catalogue& catalogue, Octets& out) {
  if (value.size() < 4) return;
  const std::uint32_t vendor = load32(value.data());
  append(out, value.first(4));
  OctetView inside = value.subspan(4);
  while (inside.size() >= 2 && inside[1] >= 2 && inside[1] <= inside.size()) {
    const std::array<std::uint32_t, 3> path{dictionary::kVendorSpecific, vendor, inside[0]};
    const bool secret = is_secret(path, catalogue);
    out.push_back(inside[0]);
    out.push_back(secret ? std::uint8_t{2} : inside[1]);
    if (!secret) append(out, inside.subspan(2, inside[1] - 2U));
    inside = inside.subspan(inside[1]);
  }
}

void add_attribute(const Attribute& attribute, const dictionary::Catalogue& catalogue, Octets& out) {
  const std::size_t at = out.size();
  const std::array<std::uint32_t, 1> path{static_cast<std::uint32_t>(attribute.type)};
  out.push_back(static_cast<std::uint8_t>(attribute.type));
  out.push_back(0);
  if (attribute.type == AttributeType::vendor_specific) {
    add_vendors(attribute.value, catalogue, out);
  } else if (!is_secret(path, catalogue)) {
    append(out, attribute.value);
  }
  out[at + 1] = static_cast<std::uint8_t>(out.size() - at);
}

}  // namespace

bool is_secret(std::span<const std::uint32_t> path, const dictionary::Catalogue& catalogue) {
  const Definition* known = path.size() == 1 && path[0] <= 0xFFU
                                ? catalogue.numbered(static_cast<std::uint8_t>(path[0]))
                                : catalogue.at(path);
  if (known != nullptr && known->hiding != dictionary::Hiding::none) return true;
  if (path.size() == 1) return std::find(kSecrets.begin(), kSecrets.end(), path[0]) != kSecrets.end();
  return path.size() == 3 && path[0] == dictionary::kVendorSpecific && path[1] == identity::kMicrosoft &&
         std::find(kMicrosoftSecrets.begin(), kMicrosoftSecrets.end(), path[2]) != kMicrosoftSecrets.end();
}

void add_without_secrets(const wire::PacketView& packet, const dictionary::Catalogue& catalogue,
                         Octets& out) {
  const std::size_t at = out.size();
  append(out, packet.octets().first(wire::kAuthenticatorAt));
  out.resize(at + wire::kHeader);
  bool identity = wire::eap_identity(packet).has_value();  // in the first EAP-Message
  for (const Attribute attribute : packet.attributes()) {
    if (attribute.type == AttributeType::eap_message && std::exchange(identity, false)) {
      append(out, packet.octets().subspan(attribute.offset, attribute.value.size() + wire::kAttributeHeader));
    } else {
      add_attribute(attribute, catalogue, out);
    }
  }
  store16(&out[at + 2], static_cast<std::uint16_t>(out.size() - at));
}

void add_without_secrets(OctetView attributes, const dictionary::Catalogue& catalogue, Octets& out) {
  for (auto at = wire::AttributeIterator(attributes, 0);
       at != wire::AttributeIterator(attributes, attributes.size()); ++at)
    add_attribute(*at, catalogue, out);
}

}  // namespace jembatan::journal
