#pragma once
// Whether a client may send what it sends here: asked of every request, whatever it is about.
#include <optional>

#include "decide/course.h"
#include "engine/datagram.h"
#include "engine/repeats.h"
#include "forward/activity.h"

namespace jembatan::engine {

/// Why what comes from a client is not looked at; nothing: it is.
///   client  null: nobody entered the address
std::optional<decide::Ending> turned_away(const plan::Client* client, const Listening& listener,
                                          const Datagram& in);

/// What is told of a request that its client has sent before; nothing: it is the first.
std::optional<decide::Ending> not_the_first(Repeats::Seen seen);
/// Of one that is still being worked on then.
inline constexpr std::string_view kSuperseded =
    "the client sent another request with this Identifier meanwhile";
/// What is told of one that is beyond the client's requests_per_second; nothing: it is within.
std::optional<decide::Ending> too_many(const plan::Client& client, forward::ClientActivity& activity,
                                       Now now);

/// True while the secret from before a rotation is taken as well.
bool takes_old_secret(const plan::Client& client, WallTime now);

/// The secret with which the Request Authenticator of a request is a digest (wire::is_digested); nothing:
/// with none that is valid.
std::optional<plan::WhichSecret> secret_of_digested(const wire::PacketView& packet,
                                                    const plan::Client& client, WallTime now);

}  // namespace jembatan::engine
