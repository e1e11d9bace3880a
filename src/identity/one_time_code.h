#pragma once
// One-time codes (RFC 4226, RFC 6238): what a token shows, and whether a code that was typed serves. Pure:
// time is passed in, and what has served before is a page that somebody else keeps.
#include <optional>
#include <span>
#include <string>
#include <vector>

#include "base/clock.h"
#include "base/secret.h"

namespace jembatan::identity {

/// What a token and this side share, and how codes come out of it.
struct Token {
  enum class Counts : std::uint8_t { time, uses };  ///< TOTP (RFC 6238) or HOTP (RFC 4226)
  enum class Hash : std::uint8_t { sha1, sha256, sha512 };

  std::string name;  ///< unlike those of all other tokens
  Secret key;        ///< octets
  Counts counts = Counts::time;
  Hash hash = Hash::sha1;
  unsigned digits = 6;            ///< 6 to 8
  std::chrono::seconds step{30};  ///< of Counts::time
};

inline constexpr std::size_t kLeastKey = 16;  ///< octets (RFC 4226 §4, R6)
inline constexpr std::size_t kMostKey = 128;
inline constexpr std::size_t kNewKey = 20;  ///< of a new token (RFC 4226 §4, R6: 160 bits are recommended)
inline constexpr unsigned kRecoveryCodes = 8;

/// HOTP (RFC 4226 §5.3), with the hashes of RFC 6238 §1.2: `digits` decimal digits.
std::string code_at(const Token& token, std::uint64_t counter);
/// The counter of a moment (RFC 6238 §4.2).
std::uint64_t counter_at(const Token& token, WallTime time);
/// One of the codes for whom the token is lost, 0 to kRecoveryCodes - 1: "k3vq7-x2mfa". They come out of the
/// key, so that there is nothing more to keep; each serves once.
std::string recovery_code(const Token& token, unsigned number);

/// Base32 (RFC 4648 §6) without padding.
std::string to_base32(OctetView octets);
/// Reads it in either letter case, with or without spaces, hyphens and padding.
///   errors  Errc::malformed
Result<Octets> from_base32(std::string_view text);

/// A token's key out of Base32.
///   errors  Errc::malformed: not Base32, or not kLeastKey to kMostKey octets; the text does not show it
Result<Secret> key_in(std::string_view base32);

/// "otpauth://totp/…", the URI that authenticator programs read from a QR code.
///   user    with its realm
///   issuer  whose codes they are, may be empty
///
/// It contains the key.
Secret uri_of(const Token& token, std::string_view user, std::string_view issuer);

/// What has served of a user's tokens, and how often codes were wrong. Kept durably by whoever judges.
struct CodePage {
  struct Used {
    std::string token;
    std::uint64_t mark = 0;       ///< of its key: another key begins anew
    std::uint64_t next = 0;       ///< the first counter that has not served
    std::int64_t ahead = 0;       ///< steps that its clock is ahead of ours (RFC 6238 §6)
    std::uint32_t recovered = 0;  ///< a bit for each recovery code that has served
    WallTime last{};
    bool operator==(const Used&) const = default;
  };
  std::uint32_t wrong = 0;  ///< in a row
  WallTime locked_until{};
  std::vector<Used> used;
  bool operator==(const CodePage&) const = default;
};
/// What both have seen, each for itself.
CodePage merged(CodePage one, const CodePage& other);
Octets packed(const CodePage& page);
/// errors  Errc::malformed
Result<CodePage> unpacked_page(OctetView octets);
/// Of a key, for CodePage::Used; says nothing about it.
std::uint64_t mark_of(const Token& token);

/// How codes are judged.
struct CodeLimits {
  unsigned drift = 1;        ///< steps that a clock may be off, each way
  unsigned look_ahead = 10;  ///< codes that may have been made and not typed (RFC 4226 §7.4)
  unsigned lock_after = 10;  ///< wrong codes in a row; 0: never
  Duration lock_for{900000};
};

/// What became of a code.
struct CodeVerdict {
  enum class What : std::uint8_t {
    right,
    recovered,  ///< a recovery code
    wrong,
    used,    ///< it has served before (RFC 6238 §5.2)
    locked,  ///< it was not looked at
    locks,   ///< wrong, and no code is looked at from now on
  } what = What::wrong;
  std::string token;     ///< whose code it is; empty: of none
  std::int64_t off = 0;  ///< steps that the token's clock was off, or codes that were left out
  unsigned left = 0;     ///< recovery codes, of recovered
  WallTime until{};      ///< of locked and locks

  bool is_right() const { return what == What::right || what == What::recovered; }
};
/// Whether a code serves; if it does, it is noted that it has. A wrong one is counted.
///   typed  as it was typed; spaces and a hyphen do not matter
CodeVerdict judge(CodePage& page, std::span<const Token> tokens, std::string_view typed,
                  const CodeLimits& limits, WallTime now);
/// The verdict in words, without the code: "it has served before", "right, one step late".
std::string words_of(const CodeVerdict& verdict);

}  // namespace jembatan::identity
