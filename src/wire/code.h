#pragma once
#include <cstdint>
#include <string>
#include <string_view>

namespace jembatan::wire {

/// Packet types (IANA "RADIUS Packet Type Codes").
enum class Code : std::uint8_t {
  access_request = 1,  // RFC 2865 §4.1
  access_accept = 2,
  access_reject = 3,
  accounting_request = 4,  // RFC 2866 §4.1
  accounting_response = 5,
  access_challenge = 11,
  status_server = 12,       // RFC 5997
  disconnect_request = 40,  // RFC 5176
  disconnect_ack = 41,
  disconnect_nak = 42,
  coa_request = 43,
  coa_ack = 44,
  coa_nak = 45,
};

/// "Access-Request"; empty for a number without a name.
std::string_view known_name_of(Code code);
/// "Access-Request"; a number without a name reads "code 99".
std::string name_of(Code code);

/// True for requests whose Request Authenticator is a digest of the packet (RFC 2866 §3, RFC 5176 §2.3); that
/// of others is by chance.
bool is_digested(Code code);

/// True for the packets that answer another one.
bool is_reply(Code code);

}  // namespace jembatan::wire
