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

/// The member that all requests with this number go to, by weight (weighted rendezvous hashing): when a
/// server is lost, the requests of that one alone move, by the weights of the others; when it is back, they
/// come back, within the group's warm_up.
///   members  at least one; those of weight 0 get nothing, unless all have it
///   number   stable_number of what it sticks to
std::size_t rendezvous(const Candidates& of, const Members& members, std::uint64_t number, TimePoint now);

}  // namespace jembatan::forward
