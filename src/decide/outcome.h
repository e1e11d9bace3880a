#pragma once
#include <cstdint>
#include <string_view>

namespace jembatan::decide {

/// What became of a datagram. Every datagram ends in exactly one of these; the counters add up to those
/// received. Journals keep the numbers: a new one is the last.
enum class Outcome : std::uint8_t {
  accepted,          ///< Access-Accept sent
  rejected,          ///< Access-Reject sent
  challenged,        ///< Access-Challenge sent
  accounted,         ///< record durable, Accounting-Response sent
  status_answered,   ///< Status-Server answered
  repeat_answered,   ///< known request: the same octets sent again
  repeat_waiting,    ///< known request, still being worked on: it will get the same answer
  superseded,        ///< the client sent another request with the same Identifier before the answer was ready
  no_answer,         ///< forwarded, but no server answered
  ignored,           ///< the plan says so
  not_recorded,      ///< the store refused the record; no answer, so that the client tries again
  unknown_client,    ///< nobody entered this address
  client_off,        ///< the client is switched off
  wrong_listener,    ///< the client may not use this listener
  over_limit,        ///< more requests than the client may send
  malformed,         ///< not a well-formed packet
  wrong_code,        ///< a packet type that does not belong here
  unsigned_request,  ///< Message-Authenticator is required and absent
  wrong_signature,   ///< an authenticator of a request does not verify
  overloaded,        ///< a bound was reached
  reply_too_long,    ///< the reply would be longer than a packet may be
  loop,              ///< it was here before, or has passed too many proxies: refused
  stopped,           ///< still being worked on when the server stopped
  reply_used,        ///< a server's reply that a request waited for
  reply_unexpected,  ///< a reply that no request waits for
  reply_malformed,   ///< not a well-formed reply
  reply_not_genuine,  ///< an authenticator of a reply does not verify
  mirror_differs,     ///< no datagram: what a request was also sent to answered otherwise; counted elsewhere
  acknowledged,       ///< Disconnect-ACK or CoA-ACK sent
  not_acknowledged,   ///< Disconnect-NAK or CoA-NAK sent
  replayed,           ///< about a session, and not of now, or seen before
};
inline constexpr std::size_t kOutcomes = 31;
/// Whether a datagram can end in it: those are counted.
constexpr bool is_of_datagrams(Outcome outcome) {
  return outcome != Outcome::mirror_differs;
}

/// Whether it is of a reply that a server sent, not of a request.
constexpr bool is_of_replies(Outcome outcome) {
  return outcome >= Outcome::reply_used && outcome <= Outcome::mirror_differs;
}

/// "accepted", "unknown-client", …: as logs, metrics and the API write it.
std::string_view name_of(Outcome outcome);

/// How much it matters to the person who reads the log.
enum class Weight : std::uint8_t { debug, info, warning, error };
Weight weight_of(Outcome outcome);

/// True for a datagram that got no answer, or a reply that was thrown away.
bool is_drop(Outcome outcome);

}  // namespace jembatan::decide
