#pragma once
#include <array>
#include <string>

#include "base/clock.h"
#include "base/ip.h"
#include "wire/packet.h"

namespace jembatan::accounting {

/// Acct-Status-Type (RFC 2866 §5.1). Other numbers are kept as they came.
enum class StatusType : std::uint32_t {
  start = 1,
  stop = 2,
  interim_update = 3,
  accounting_on = 7,
  accounting_off = 8
};

std::string name_of(StatusType status);  ///< the dictionary's name, or the number

/// The first 16 octets of a SHA-256.
using Digest = std::array<std::uint8_t, 16>;

/// An Accounting-Request on its way in: all that must be durable before it is acknowledged.
struct Arrival {
  std::int64_t id = 0;  ///< given by the node that keeps it, growing
  WallTime received;    ///< when this node received it
  WallTime event_time;  ///< Event-Timestamp, or received less Acct-Delay-Time
  std::string client;   ///< the name of the client that sent it
  IpAddress source;
  std::string realm;  ///< of its user, as the plan understands it
  Octets attributes;  ///< as received, without what belongs to one hop or must not be there
  Digest key{};       ///< of the event that it tells of: the same for all resends (accounting/keys.h)
  Digest digest{};    ///< of what it says: the same at every hop that did not change it
};

/// The same, taken apart for searching.
struct Record : Arrival {
  StatusType status{};
  std::string nas;   ///< NAS-Identifier, or NAS-IP(v6)-Address, or the client's name
  std::string port;  ///< NAS-Port-Id, or NAS-Port
  std::string session_id;
  std::string user;  ///< User-Name as received
  std::string calling_station;
  std::string framed_ip;
  std::uint64_t input_octets = 0;  ///< with gigawords (RFC 2869 §5.1)
  std::uint64_t output_octets = 0;
  std::uint32_t session_time = 0;  ///< seconds
  std::uint32_t terminate_cause = 0;
};

struct Sender {
  std::string client;  ///< its name
  IpAddress address;
};

/// Takes an Accounting-Request in.
///   errors  Errc::malformed: no Acct-Status-Type, or no Acct-Session-Id where RFC 2866 §5.5 demands one
Result<Arrival> arrival_of(const wire::PacketView& packet, Sender sender, std::string realm,
                           WallTime received);

Record taken_apart(Arrival arrival);

/// The attributes as a packet that is sent to nobody, to be parsed: its authenticator is zero.
Octets as_packet(OctetView attributes);

/// The attributes for the next hop: as received, with Acct-Delay-Time grown by the time that the record has
/// waited here (RFC 2866 §5.2). What came without Event-Timestamp (RFC 2869 §5.3) gets one, so that all hops
/// behind agree on when it was.
Octets attributes_to_send(const Arrival& arrival, WallTime now);

}  // namespace jembatan::accounting
