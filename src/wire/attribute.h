#pragma once
#include <cstddef>
#include <cstdint>

#include "base/octets.h"

namespace jembatan::wire {

/// The attribute numbers that the server's own code looks at; all others are known by the dictionaries alone.
enum class AttributeType : std::uint8_t {
  user_name = 1,
  user_password = 2,
  chap_password = 3,
  nas_ip_address = 4,
  nas_port = 5,
  service_type = 6,
  framed_ip_address = 8,
  reply_message = 18,
  state = 24,
  vendor_specific = 26,
  session_timeout = 27,
  called_station_id = 30,
  calling_station_id = 31,
  nas_identifier = 32,
  proxy_state = 33,
  acct_status_type = 40,
  acct_delay_time = 41,
  acct_input_octets = 42,
  acct_output_octets = 43,
  acct_session_id = 44,
  acct_session_time = 46,
  acct_terminate_cause = 49,
  acct_multi_session_id = 50,
  acct_input_gigawords = 52,
  acct_output_gigawords = 53,
  event_timestamp = 55,
  chap_challenge = 60,
  tunnel_type = 64,
  tunnel_medium_type = 65,
  arap_password = 70,
  prompt = 76,
  eap_message = 79,
  message_authenticator = 80,
  tunnel_private_group_id = 81,
  nas_port_id = 87,
  chargeable_user_identity = 89,  // RFC 4372
  nas_ipv6_address = 95,
  framed_interface_id = 96,  // RFC 3162
  framed_ipv6_prefix = 97,
  error_cause = 101,  // RFC 5176 §3.5
  digest_response = 103,
};

/// One attribute inside a packet; the value is a view into the packet's octets.
struct Attribute {
  AttributeType type{};
  OctetView value;
  std::size_t offset = 0;  ///< of the attribute's first octet, counted from the packet's first
};

inline constexpr std::size_t kAttributeHeader = 2;
inline constexpr std::size_t kMaxValue = 253;        ///< RFC 2865 §5: length field 2..255
inline constexpr std::size_t kMaxAttributes = 4076;  ///< of one packet: 4096 octets less the header

}  // namespace jembatan::wire
