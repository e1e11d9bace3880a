#include "journal/scrub.h"

#include <algorithm>
#include <array>

#include "dictionary/layout.h"
#include "identity/credential.h"
#include "wire/eap.h"

namespace jembatan::journal {
namespace {

using dictionary::Definition;
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

// Attributes as they are, but for those that are changed: runs of others are taken in one piece.
class Adding {
 public:
  Adding(const dictionary::Catalogue& catalogue, Octets& out) : catalogue_(catalogue), out_(out) {}

  //   attributes  well-formed
  //   kept        one that stays whatever it is; its offset
  void run(OctetView attributes, std::size_t kept) {
    std::size_t run = 0;
    for (std::size_t at = 0; at < attributes.size(); at += attributes[at + 1]) {
      const std::array<std::uint32_t, 1> path{attributes[at]};
      const bool vendors = path[0] == dictionary::kVendorSpecific;
      if (at == kept || (!vendors && !is_secret(path, catalogue_))) continue;
      append(out_, attributes.subspan(run, at - run));
      run = at + attributes[at + 1];
      changed(attributes.subspan(at, run - at));
    }
    append(out_, attributes.subspan(run));
  }

 private:
  void changed(OctetView attribute) {
    const std::size_t at = out_.size();
    out_.push_back(attribute[0]);
    out_.push_back(0);
    if (attribute[0] == dictionary::kVendorSpecific)
      add_vendors(attribute.subspan(wire::kAttributeHeader), catalogue_, out_);
    out_[at + 1] = static_cast<std::uint8_t>(out_.size() - at);
  }
  const dictionary::Catalogue& catalogue_;
  Octets& out_;
};

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
  const auto eap = packet.find(AttributeType::eap_message);  // the first may hold an identity
  const std::size_t kept = eap && wire::eap_identity(packet) ? eap->offset - wire::kHeader : ~std::size_t{0};
  Adding(catalogue, out).run(packet.attribute_octets(), kept);
  store16(&out[at + 2], static_cast<std::uint16_t>(out.size() - at));
}

void add_without_secrets(OctetView attributes, const dictionary::Catalogue& catalogue, Octets& out) {
  Adding(catalogue, out).run(attributes, ~std::size_t{0});
}

}  // namespace jembatan::journal
