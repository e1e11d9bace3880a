#pragma once
// A request as it goes on to a server of some group.
#include "decide/course.h"
#include "engine/loop_mark.h"
#include "forward/forwarding.h"
#include "wire/builder.h"

namespace jembatan::engine {

/// Who asks: whose requests stay together.
forward::Asker asker_in(const plan::Group& group, const decide::Course& course, std::string_view client);

/// Where it goes, and with what.
struct Onward {
  std::size_t group = 0;  ///< place in the plan
  const plan::Server& server;
  const wire::Authenticator& authenticator;  ///< Request Authenticator of the new packet
  LoopMark::Mark mark;
};

/// Adds the attributes of a request to a packet, after the plan's edits, hidden for the server: everything
/// but Message-Authenticator.
///   secret  the one that the client used
///   errors  those of decide::Rehiding
Status put_onward(decide::Course& course, const wire::SharedSecret& secret, const Onward& to,
                  wire::PacketBuilder& out);

}  // namespace jembatan::engine
