#pragma once
// Proving a password by a method in which it does not travel. Pure: what the request says is compared with
// what is kept.
#include "base/random.h"
#include "identity/password.h"
#include "wire/packet.h"
#include "wire/shared_secret.h"

namespace jembatan::identity {

/// Why somebody is refused whom nobody here knows.
inline constexpr std::string_view kNoUser = "no such user here";

/// What came of a challenge method.
struct Challenged {
  bool right = false;
  std::string_view because;  ///< why not; a literal
  Octets accept;             ///< attributes that an Access-Accept must have besides
  Octets reject;             ///< attributes that an Access-Reject must have besides
};

/// Who the request says it comes from.
struct Claimed {
  const StoredPassword* password = nullptr;  ///< null: nobody here has this name
  std::string_view name;                     ///< User-Name without its realm
};

/// Proves CHAP (RFC 2865 §2.2), MS-CHAP version 1 and 2 (RFC 2548 §2, RFC 2433, RFC 2759); nothing if the
/// request uses none of them. Requests to change a password are refused with the methods' own error.
///   secret, random  hide the session keys of version 2 (RFC 2548 §2.4)
///
/// An unknown user is refused with the same octets as one whose password is wrong.
std::optional<Challenged> prove_challenge(const wire::PacketView& packet, const Claimed& claimed,
                                          const wire::SharedSecret& secret, Random& random);

/// What is barred for somebody who has proved the password.
enum class Barred : std::uint8_t { account, from_there, password };

/// What an Access-Reject has for a user who has proved the password and cannot come in (RFC 2759 §6: 647, the
/// account is disabled; 648, the password has expired; 649, no permission to dial in from there); nothing for
/// methods without such a text.
Octets challenge_refusal(const wire::PacketView& packet, Barred what, Random& random);

}  // namespace jembatan::identity
