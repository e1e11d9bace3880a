#include "journal/scrub.h"

#include <algorithm>
#include <array>

#include "dictionary/layout.h"
#include "identity/credential.h"

namespace jembatan::journal {
namespace {

using dictionary::Definition;
using wire::AttributeType;

// Responses and changes of passwords; CHAP-Password, EAP-Message, Message-Authenticator.
constexpr std::array<std::uint32_t, 6> kMicrosoftSecrets{1, 3, 4, 5, 25, 27};
constexpr std::array<std::uint32_t, 3> kSecrets{3, 79, 80};

// Vendor-Specific in the recommended format (RFC 2865 §5.26), with secret ones emptied.
Octets vendors(OctetView value, const dictionary::Catalogue& catalogue) {
  if (value.size() < 4) return {};
  const std::uint32_t vendor = load32(value.data());
  Octets out(value.begin(), value.begin() + 4);
  OctetView inside = value.subspan(4);
  while (inside.size() >= 2 && inside[1] >= 2 && inside[1] <= inside.size()) {
    const bool secret = is_secret({dictionary::kVendorSpecific, vendor, inside[0]}, catalogue);
    out.push_back(inside[0]);
    out.push_back(secret ? std::uint8_t{2} : inside[1]);
    if (!secret) append(out, inside.subspan(2, inside[1] - 2U));
    inside = inside.subspan(inside[1]);
  }
  return out;  // what follows no format may hold anything: it is left out
}

}  // namespace

bool is_secret(const dictionary::Path& path, const dictionary::Catalogue& catalogue) {
  const Definition* known = catalogue.at(path);
  if (known != nullptr && known->hiding != dictionary::Hiding::none) return true;
  if (path.size() == 1) return std::find(kSecrets.begin(), kSecrets.end(), path[0]) != kSecrets.end();
  return path.size() == 3 && path[0] == dictionary::kVendorSpecific && path[1] == identity::kMicrosoft &&
         std::find(kMicrosoftSecrets.begin(), kMicrosoftSecrets.end(), path[2]) != kMicrosoftSecrets.end();
}

Octets without_secrets(const wire::PacketView& packet, const dictionary::Catalogue& catalogue) {
  Octets out(packet.octets().begin(), packet.octets().begin() + wire::kHeader);
  std::fill(out.begin() + wire::kAuthenticatorAt, out.end(), std::uint8_t{0});
  for (const wire::Attribute attribute : packet.attributes()) {
    Octets value;
    if (attribute.type == AttributeType::vendor_specific) {
      value = vendors(attribute.value, catalogue);
    } else if (!is_secret({static_cast<std::uint32_t>(attribute.type)}, catalogue)) {
      value.assign(attribute.value.begin(), attribute.value.end());
    }
    out.push_back(static_cast<std::uint8_t>(attribute.type));
    out.push_back(static_cast<std::uint8_t>(value.size() + wire::kAttributeHeader));
    append(out, value);
  }
  out[2] = static_cast<std::uint8_t>(out.size() >> 8U);
  out[3] = static_cast<std::uint8_t>(out.size());
  return out;
}

}  // namespace jembatan::journal
