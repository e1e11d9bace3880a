#pragma once
#include "accounting/store.h"

namespace jembatan::accounting {

/// What one record means for the session it belongs to.
enum class SessionStep : std::uint8_t {
  nothing,
  update,  ///< the session given was changed
  begin,   ///< another session begins; it is in the place of the one given
};

/// Applies a record to the newest known session of its client, device and Acct-Session-Id. Records may come
/// late and in any order: a Start behind its Stop does not open the session again, a Start that is newer than
/// all that is known begins another one (devices start over with their numbers).
///   session  in: the newest known, if any; out: as it is now
SessionStep follow(std::optional<Session>& session, const Record& record);

}  // namespace jembatan::accounting
