#include "wire/eap.h"

namespace jembatan::wire {
namespace {

constexpr std::uint8_t kResponse = 2;  // RFC 3748 §4
constexpr std::uint8_t kFailure = 4;
constexpr std::uint8_t kIdentity = 1;       // RFC 3748 §5
constexpr std::size_t kBeforeIdentity = 5;  // Code, Identifier, Length, Type

}  // namespace

std::optional<std::string_view> eap_identity(const PacketView& packet) {
  const auto found = packet.find(AttributeType::eap_message);
  if (!found || found->value.size() <= kBeforeIdentity) return std::nullopt;
  const OctetView eap = found->value;
  if (eap[0] != kResponse || eap[4] != kIdentity || load16(eap.data() + 2) != eap.size()) return std::nullopt;
  return text_of(eap.subspan(kBeforeIdentity));
}

Octets eap_failure(const PacketView& request) {
  const auto found = request.find(AttributeType::eap_message);
  if (!found) return {};
  // EAP-Start (RFC 3579 §2.1) has no Identifier yet.
  const std::uint8_t identifier = found->value.size() > 1 ? found->value[1] : std::uint8_t{0};
  return {static_cast<std::uint8_t>(AttributeType::eap_message), 6, kFailure, identifier, 0, 4};
}

}  // namespace jembatan::wire
