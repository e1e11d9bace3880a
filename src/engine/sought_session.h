#pragma once
// Which session a Disconnect- or CoA-Request is about (RFC 5176 §3).
#include <functional>

#include "accounting/store.h"
#include "wire/packet.h"

namespace jembatan::engine {

/// Error-Cause (RFC 5176 §3.5) of what is refused here.
enum class ErrorCause : std::uint32_t {
  unsupported_attribute = 401,
  missing_attribute = 402,
  invalid_request = 404,
  administratively_prohibited = 501,
  request_not_routable = 502,
  session_context_not_found = 503,
  other_proxy_processing_error = 505,
  resources_unavailable = 506,
  multiple_session_selection_unsupported = 508,
};

/// What a request is refused for.
struct NotAcknowledged {
  ErrorCause cause{};
  std::string_view because;  ///< a literal
  std::string detail = {};
};

/// What is known of sessions. Calls may block.
class SessionFinder {
 public:
  virtual ~SessionFinder() = default;
  virtual Result<std::vector<accounting::Session>> sessions(const accounting::Query& query) = 0;
  /// The oldest first.
  virtual Result<std::vector<accounting::Record>> records_of(const accounting::Session& session) = 0;
};

/// A session, and the device that has it.
struct FoundSession {
  accounting::Session session;
  IpAddress device;  ///< where its last record came from
  Octets user_name;  ///< as the device told it; may be empty
};

/// The one session that a request is about: an open one that has all that the request tells of it. What no
/// record of it tells must not be asked for: whoever receives the request might go by that alone.
///   realms  whose sessions may be meant, as plan::holds_realm takes them; other sessions do not exist
///   errors  what the asker is told
std::variant<FoundSession, NotAcknowledged> find_session(SessionFinder& among,
                                                         const wire::PacketView& request,
                                                         std::span<const std::string> realms);

/// What a request about a session tells of it, for its device: the parts of its records by which devices know
/// their sessions (RFC 5176 §3), encoded.
///   records  of the session, one or more
Octets identification_of(std::span<const accounting::Record> records);

}  // namespace jembatan::engine
