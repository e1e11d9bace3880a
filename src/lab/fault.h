#pragma once
// What can be wrong between a node of the lab and whoever asks it.
#include <optional>

#include "base/clock.h"
#include "base/random.h"
#include "base/result.h"
#include "wire/shared_secret.h"

namespace jembatan::lab {

struct Fault {
  enum class Kind : std::uint8_t {
    none,
    silent,        ///< nothing passes
    delay,         ///< everything is late
    drop,          ///< a part of what comes by is lost, both ways
    duplicate,     ///< everything comes twice
    reorder,       ///< some of it overtakes the rest
    wrong_secret,  ///< as if the two sides had different secrets
    reject_all,    ///< every sign-in is refused, whoever it is
  } kind = Kind::none;
  Duration time{0};      ///< of delay
  unsigned percent = 0;  ///< of drop
  bool operator==(const Fault&) const = default;
};

/// "silent", "delay 800ms", "drop 20%": as `jembatan lab fault` and rehearsals write it.
///   errors  Errc::malformed, with what is allowed
Result<Fault> parse_fault(std::string_view text);
std::string text_of(const Fault& fault);

enum class Direction : std::uint8_t { to_node, to_asker };

/// One datagram that goes on.
struct Passed {
  Duration after{0};
  Octets datagram;
  bool back = false;  ///< to where it came from: an answer in the node's place
};

/// What becomes of a datagram.
///   secret  between the two sides, if it is known: answers in the node's place need it
std::vector<Passed> pass(const Fault& fault, Direction direction, OctetView datagram,
                         const wire::SharedSecret* secret, Random& random);

}  // namespace jembatan::lab
