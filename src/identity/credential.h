#pragma once
// What a request proves its user by. Rules, conditions and proving all ask here.
#include "wire/packet.h"

namespace jembatan::identity {

inline constexpr std::uint32_t kMicrosoft = 311;  ///< the vendor of RFC 2548

/// Attributes of RFC 2548 that methods look at.
enum class MicrosoftType : std::uint8_t {
  response_1 = 1,
  change_1 = 3,
  change_2 = 4,
  challenge = 11,
  response_2 = 25,
  success_2 = 26,
  change_version_2 = 27,
};
/// The value of the first of that type.
std::optional<OctetView> find_microsoft(const wire::PacketView& packet, MicrosoftType type);

struct Credential {
  /// "pap", "chap", "ms-chap", "ms-chap-v2", "eap", "arap", "digest"; "none" if the request proves nothing.
  std::string_view method = "none";
  /// Why it cannot be one request of one user; empty if nothing is wrong: two names, two credentials, two
  /// kinds of them (RFC 2865 §4.1, RFC 3579 §3.3), a CHAP-Challenge of less than 5 octets (RFC 2865 §5.40).
  std::string problem;
};
Credential credential_of(const wire::PacketView& packet);

inline std::string_view method_of(const wire::PacketView& packet) {
  return credential_of(packet).method;
}
/// True for a request in which nobody proves anything, because the client has seen to it (as with
/// Service-Type Authorize-Only, RFC 5176 §3.2). Who sends a credential is judged by it, whatever else he asks
/// for.
inline bool proves_nothing(const wire::PacketView& packet) {
  return method_of(packet) == "none";
}
/// True for the methods that can be proved without another server: all that passwords are kept for.
bool answered_here(std::string_view method);

}  // namespace jembatan::identity
