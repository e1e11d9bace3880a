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

/// What an Accounting-Request says, taken apart for keeping and searching.
struct Record {
  std::int64_t id = 0;  ///< given by the store
  WallTime received;    ///< when this node received it
  WallTime event_time;  ///< Event-Timestamp, or received less Acct-Delay-Time
  std::string client;   ///< the name of the client that sent it
  IpAddress source;
  std::string nas;  ///< NAS-Identifier, or NAS-IP(v6)-Address, or the client's name
  StatusType status{};
  std::string session_id;
  std::string user;  ///< User-Name as received
  std::string realm;
  std::string calling_station;
  std::string framed_ip;
  std::uint64_t input_octets = 0;  ///< with gigawords (RFC 2869 §5.1)
  std::uint64_t output_octets = 0;
  std::uint32_t session_time = 0;  ///< seconds
  std::uint32_t terminate_cause = 0;
  Octets attributes;  ///< all of them, as received, without Proxy-State and Message-Authenticator
  std::array<std::uint8_t, 16> digest{};  ///< the same for all resends of one record
};

struct Sender {
  std::string client;  ///< its name
  IpAddress address;
};

/// Takes an Accounting-Request apart.
///   errors  Errc::malformed: no Acct-Status-Type, or no Acct-Session-Id where RFC 2866 §5.5 demands one
///   realm  of its user, as the plan understands it
Result<Record> make_record(const wire::PacketView& packet, Sender sender, std::string realm,
                           WallTime received);

/// The attributes for the next hop: as received, with Acct-Delay-Time grown by the time that the record has
/// waited here (RFC 2866 §5.2).
Octets attributes_to_send(const Record& record, WallTime now);

}  // namespace jembatan::accounting
