#pragma once
// Methods in which the password does not travel: both sides answer a challenge with it.
#include <array>
#include <optional>

#include "base/octets.h"

namespace jembatan::identity {

/// CHAP (RFC 1994 §4.1): the answer to a challenge, MD5 over identifier, password and challenge.
std::array<std::uint8_t, 16> chap_response(std::uint8_t identifier, OctetView password, OctetView challenge);

/// MD4 over the password in UTF-16, little-endian (RFC 2759 §8.3, NtPasswordHash).
using NtHash = std::array<std::uint8_t, 16>;
///   password  UTF-8
///   errors    Errc::malformed: not UTF-8; Errc::too_long: over 256 characters
Result<NtHash> nt_hash(OctetView password);

using NtResponse = std::array<std::uint8_t, 24>;

/// The answer to a challenge of 8 octets (RFC 2759 §8.5, RFC 2433 §A.5, ChallengeResponse).
NtResponse nt_response(const std::array<std::uint8_t, 8>& challenge, const NtHash& hash);

/// What is answered in version 2: a hash of both sides' challenges and the name (RFC 2759 §8.2,
/// ChallengeHash).
///   peer, authenticator  16 octets each
///   name                 without a domain in front of it
std::array<std::uint8_t, 8> challenge_hash(OctetView peer, OctetView authenticator, OctetView name);

/// "S=" and 40 hexadecimal digits: shows the peer that this side knows the password, too (RFC 2759 §8.7,
/// GenerateAuthenticatorResponse).
std::string authenticator_response(const NtHash& hash, const NtResponse& response,
                                   const std::array<std::uint8_t, 8>& challenge);

/// Keys of 128 bits for the session, as the server uses them (RFC 3079 §3.3, §3.4).
struct MppeKeys {
  std::array<std::uint8_t, 16> send{};
  std::array<std::uint8_t, 16> receive{};
};
MppeKeys mppe_keys(const NtHash& hash, const NtResponse& response);

}  // namespace jembatan::identity
