#pragma once
#include "decide/edits.h"

namespace jembatan::decide {

/// What is taken for granted about the password, where the request has none that can be looked at.
enum class Assume : std::uint8_t { proven, refused };

/// What is known of a request besides itself.
struct Known {
  Assume assume = Assume::proven;
  std::string_view said = "taken for right";    ///< of the password
  std::string_view because = "wrong password";  ///< why it is refused, if it is
  std::optional<IpAddress> from;                ///< where it came from
  HiddenValues hidden = {};                     ///< of the request
};

/// What `explain` takes for granted of a password that nobody typed.
Known assumed(bool refused);

struct Explanation {
  enum class Outcome : std::uint8_t { accept, reject, forward, ignore, record, drop } outcome{};
  std::string summary;             ///< "accepted: an access rule permits ('crew on deck')"
  std::vector<std::string> lines;  ///< each step, in its order, with what it looked at
};
std::string_view name_of(Explanation::Outcome outcome);

/// Decides a request as the server does, without sending anything, and tells each step.
///   request  as it was received
Explanation explain(const Request& request, const Known& known);

/// How a name was understood: "name 'REEF\sari' (realm\user): user 'sari', realm 'REEF'".
std::string name_text(const plan::Plan& plan, const Way& way);

/// One line for each step: "access rule 2 'crew on deck': no, member of "crew" (the user is in 'pier')".
std::vector<std::string> text_of(const Trail& trail, const Request& request, const Way& way,
                                 const plan::User* user);

}  // namespace jembatan::decide
