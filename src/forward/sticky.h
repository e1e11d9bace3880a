#pragma once
// What keeps requests at one server (`sticky`).
#include "forward/choice.h"

namespace jembatan::forward {

/// What of a request can keep it at one server; empty: it has none.
struct Ties {
  std::string_view user;     ///< with its realm
  std::string_view station;  ///< Calling-Station-Id
  std::string_view client;   ///< its name: sessions are told apart by it
  std::string_view session;  ///< Acct-Session-Id
};

/// The number for Asker::sticks. Of what the request does not have, the next counts: session, station, user.
/// 0: none of them.
std::uint64_t tie_of(plan::Sticky sticky, const Ties& ties);

/// What sticks together is divided into so many parts, each of which goes to one server.
constexpr std::uint16_t slot_of(std::uint64_t sticks) {
  return static_cast<std::uint16_t>(sticks >> 48U);
}

/// The member that all requests of this slot go to, by weight (weighted rendezvous hashing): when a
/// server is lost, the requests of that one alone move, by the weights of the others; when it is back, they
/// come back, within the group's warm_up.
///   members  at least one; those of weight 0 get nothing, unless all have it
std::size_t rendezvous(const Candidates& of, const Members& members, std::uint16_t slot, TimePoint now);

}  // namespace jembatan::forward
