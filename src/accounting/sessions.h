#pragma once
#include "accounting/store.h"

namespace jembatan::accounting {

/// What one record means for the session it belongs to.
enum class SessionStep : std::uint8_t {
  nothing,
  update,  ///< the session given was changed
  begin,   ///< another session begins; it is in the place of the one given
};

/// True if the record tells of this session, given that device and Acct-Session-Id are the same: devices give
/// one number to sessions that begin in the same second. Another user, port or station is another session,
/// and so is another address where no station is told. By another client (a second hub, say) it may come if
/// the user and the station or port are told and the same.
bool belongs(const Session& session, const Record& record);

/// Applies a record to the newest known session that it belongs to. Records may come late and in any order: a
/// Start behind its Stop does not open the session again, a Start that is newer than all that is known begins
/// another one (devices start over with their numbers), unless it may be the same Start, sent to another node
/// because the first did not answer. A session that was ended without its Stop is open
/// again if a later record tells that it lasts.
///   session  in: the newest known, if any; out: as it is now
SessionStep follow(std::optional<Session>& session, const Record& record);

/// The id of a session that another node recorded the beginning of: no record here has it.
///   node  its number in the database that nodes share
constexpr std::int64_t id_elsewhere(std::int64_t node, std::int64_t record) {
  return (node << 40U) + record;
}
constexpr std::int64_t node_of(std::int64_t id) {  // 0: this one
  return id >> 40U;
}
constexpr bool is_elsewhere(std::int64_t session) {
  return node_of(session) != 0;
}

/// An id as people read and write it: "17"; of a session that began at node 3 of those that share a plan,
/// "3/17".
std::string session_number(std::int64_t id);
/// The id; nothing if the text is no such number. The id itself, in digits, is one too.
std::optional<std::int64_t> session_numbered(std::string_view text);

/// From then on, without a word, an open session is lost.
WallTime lost_from(const Session& session, const Silence& silence);

}  // namespace jembatan::accounting
