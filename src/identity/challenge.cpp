#include "identity/challenge.h"

#include <nettle/des.h>
#include <nettle/md4.h>
#include <nettle/md5.h>
#include <nettle/sha1.h>

#include <algorithm>
#include <initializer_list>

namespace jembatan::identity {
namespace {

constexpr std::size_t kMostCharacters = 256;  // RFC 2759 §8.3

using Sha1 = std::array<std::uint8_t, SHA1_DIGEST_SIZE>;

Sha1 sha1(std::initializer_list<OctetView> parts) {
  sha1_ctx context;
  sha1_init(&context);
  for (const OctetView part : parts) sha1_update(&context, part.size(), part.data());
  Sha1 out{};
  sha1_digest(&context, out.size(), out.data());
  return out;
}

NtHash md4(OctetView octets) {
  md4_ctx context;
  md4_init(&context);
  md4_update(&context, octets.size(), octets.data());
  NtHash out{};
  md4_digest(&context, out.size(), out.data());
  return out;
}

// 56 bits spread over 8 octets with their parity bits (RFC 2759 §8.6).
std::array<std::uint8_t, 8> des_key(const std::uint8_t* seven) {
  std::array<std::uint8_t, 8> out{};
  for (std::size_t i = 0; i < 8; ++i) {
    const unsigned left = i == 0 ? 0U : static_cast<unsigned>(seven[i - 1]) << (8 - i);
    const unsigned right = i == 7 ? 0U : static_cast<unsigned>(seven[i]) >> i;
    out[i] = static_cast<std::uint8_t>((left | right) & 0xFEU);
  }
  des_fix_parity(out.size(), out.data(), out.data());
  return out;
}

// The code point at the front of a text, taken off it; nothing if it is not UTF-8.
std::optional<std::uint32_t> take_code_point(OctetView& text) {
  const std::uint8_t first = text[0];
  const std::size_t size = first < 0x80        ? 1
                           : first >> 5U == 6  ? 2
                           : first >> 4U == 14 ? 3
                           : first >> 3U == 30 ? 4
                                               : 0;
  if (size == 0 || text.size() < size) return std::nullopt;
  std::uint32_t out = size == 1 ? first : first & (0x7FU >> size);
  for (std::size_t i = 1; i < size; ++i) {
    if (text[i] >> 6U != 2) return std::nullopt;
    out = out << 6U | (text[i] & 0x3FU);
  }
  static constexpr std::uint32_t kLeast[] = {0, 0, 0x80, 0x800, 0x10000};
  if (out < kLeast[size] || out > 0x10FFFF || (out >= 0xD800 && out < 0xE000)) return std::nullopt;
  text = text.subspan(size);
  return out;
}

void add_unit(Octets& out, std::uint32_t unit) {
  out.push_back(static_cast<std::uint8_t>(unit));
  out.push_back(static_cast<std::uint8_t>(unit >> 8U));
}

constexpr std::string_view kMagicServer = "Magic server to client signing constant";  // RFC 2759 §8.7
constexpr std::string_view kMagicPad = "Pad to make it do more than one iteration";   // RFC 2759 §8.7
constexpr std::string_view kMagicMaster = "This is the MPPE Master Key";              // RFC 3079 §3.4
constexpr std::string_view kMagicClientSends =                                        // RFC 3079 §3.4
    "On the client side, this is the send key; on the server side, it is the receive key.";
constexpr std::string_view kMagicServerSends =
    "On the client side, this is the receive key; on the server side, it is the send key.";

std::array<std::uint8_t, 16> session_key(OctetView master, std::string_view magic) {
  std::array<std::uint8_t, 40> zeros{};
  std::array<std::uint8_t, 40> pad{};
  pad.fill(0xF2);
  const Sha1 digest = sha1({master, zeros, view_of(magic), pad});
  std::array<std::uint8_t, 16> out{};
  std::copy_n(digest.begin(), out.size(), out.begin());
  return out;
}

}  // namespace

std::array<std::uint8_t, 16> chap_response(std::uint8_t identifier, OctetView password, OctetView challenge) {
  md5_ctx context;
  md5_init(&context);
  md5_update(&context, 1, &identifier);
  md5_update(&context, password.size(), password.data());
  md5_update(&context, challenge.size(), challenge.data());
  std::array<std::uint8_t, 16> out{};
  md5_digest(&context, out.size(), out.data());
  return out;
}

Result<NtHash> nt_hash(OctetView password) {
  Octets wide;
  while (!password.empty()) {
    const auto point = take_code_point(password);
    if (!point) return fail(Errc::malformed, "the password is not UTF-8");
    if (*point >= 0x10000) {
      add_unit(wide, 0xD800 + ((*point - 0x10000) >> 10U));
      add_unit(wide, 0xDC00 + ((*point - 0x10000) & 0x3FFU));
    } else {
      add_unit(wide, *point);
    }
  }
  if (wide.size() > 2 * kMostCharacters)
    return fail(Errc::too_long, "the password has more than 256 characters");
  const NtHash out = md4(wide);
  wipe(wide);
  return out;
}

NtResponse nt_response(const std::array<std::uint8_t, 8>& challenge, const NtHash& hash) {
  std::array<std::uint8_t, 21> padded{};
  std::copy(hash.begin(), hash.end(), padded.begin());
  NtResponse out{};
  for (std::size_t i = 0; i < 3; ++i) {
    des_ctx context;
    des_set_key(&context, des_key(padded.data() + 7 * i).data());
    des_encrypt(&context, challenge.size(), out.data() + 8 * i, challenge.data());
  }
  return out;
}

std::array<std::uint8_t, 8> challenge_hash(OctetView peer, OctetView authenticator, OctetView name) {
  const Sha1 digest = sha1({peer, authenticator, name});
  std::array<std::uint8_t, 8> out{};
  std::copy_n(digest.begin(), out.size(), out.begin());
  return out;
}

std::string authenticator_response(const NtHash& hash, const NtResponse& response,
                                   const std::array<std::uint8_t, 8>& challenge) {
  const Sha1 first = sha1({md4(hash), response, view_of(kMagicServer)});
  std::string hex = to_hex(sha1({first, challenge, view_of(kMagicPad)}));
  std::transform(hex.begin(), hex.end(), hex.begin(),
                 [](char c) { return c >= 'a' ? static_cast<char>(c - 'a' + 'A') : c; });
  return "S=" + hex;
}

MppeKeys mppe_keys(const NtHash& hash, const NtResponse& response) {
  const Sha1 digest = sha1({md4(hash), response, view_of(kMagicMaster)});
  const OctetView master = OctetView(digest).first(16);
  return {session_key(master, kMagicServerSends), session_key(master, kMagicClientSends)};
}

}  // namespace jembatan::identity
