#pragma once
// Whether a client may send what it sends here: asked of every request, whatever it is about.
#include <optional>

#include "decide/course.h"
#include "engine/datagram.h"

namespace jembatan::engine {

/// Why what comes from a client is not looked at; nothing: it is.
///   client  null: nobody entered the address
std::optional<decide::Ending> turned_away(const plan::Client* client, const Listening& listener,
                                          const Datagram& in);

/// True while the secret from before a rotation is taken as well.
bool takes_old_secret(const plan::Client& client, WallTime now);

/// The secret with which the Request Authenticator of a request is a digest (wire::is_digested); nothing:
/// with none that is valid.
std::optional<plan::WhichSecret> secret_of_digested(const wire::PacketView& packet,
                                                    const plan::Client& client, WallTime now);

}  // namespace jembatan::engine
