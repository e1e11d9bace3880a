#include "wire/hidden.h"

#include <fmt/format.h>

#include <algorithm>

#include "base/text.h"

namespace jembatan::wire {
namespace {

constexpr std::size_t kBlock = 16;

// b(i) = MD5(secret + previous)
Authenticator key_block(const SharedSecret& secret, OctetView previous) {
  md5_ctx md5 = secret.md5_start();
  md5_update(&md5, previous.size(), previous.data());
  Authenticator out;
  md5_digest(&md5, out.size(), out.data());
  return out;
}

// XORs blocks with the keys that the blocks before them give; the first key comes from `start`. The chain
// runs over hidden octets, which are `out` itself when hiding.
void chain(Octets& out, OctetView hidden, OctetView start, const SharedSecret& secret) {
  OctetView previous = start;
  for (std::size_t at = 0; at < out.size(); at += kBlock) {
    const Authenticator key = key_block(secret, previous);
    for (std::size_t i = 0; i < kBlock; ++i) out[at + i] ^= key[i];
    previous = hidden.subspan(at, kBlock);
  }
}

std::size_t rounded_up(std::size_t size) {
  return (size + kBlock - 1) / kBlock * kBlock;
}

}  // namespace

Result<Octets> hide_password(OctetView password, const Authenticator& request, const SharedSecret& secret) {
  if (password.size() > kMaxPassword) {
    return fail(Errc::too_long,
                fmt::format("password of {} octets, allowed 0 to {}", password.size(), kMaxPassword));
  }
  Octets out(std::max(kBlock, rounded_up(password.size())));
  std::copy(password.begin(), password.end(), out.begin());
  chain(out, out, request, secret);
  return out;
}

Result<Octets> reveal_password(OctetView hidden, const Authenticator& request, const SharedSecret& secret) {
  if (hidden.empty() || hidden.size() > kMaxPassword || hidden.size() % kBlock != 0) {
    return fail(Errc::malformed,
                fmt::format("User-Password of {} octets, allowed 16 to 128 in steps of 16", hidden.size()));
  }
  Octets out(hidden.begin(), hidden.end());
  chain(out, hidden, request, secret);
  while (!out.empty() && out.back() == 0) out.pop_back();
  return out;
}

Result<Octets> hide_salted(OctetView value, std::uint16_t salt, const Authenticator& request,
                           const SharedSecret& secret) {
  constexpr std::size_t kMost = 239;  // with length, padding, salt and tag in 253 octets
  if (value.size() > kMost) {
    return fail(Errc::too_long,
                fmt::format("value of {} octets to be hidden, allowed 0 to {}", value.size(), kMost));
  }
  Octets start(request.begin(), request.end());
  start.resize(kBlock + 2);
  store16(&start[kBlock], static_cast<std::uint16_t>(salt | 0x8000U));
  Octets out(rounded_up(value.size() + 1));
  out[0] = static_cast<std::uint8_t>(value.size());
  std::copy(value.begin(), value.end(), out.begin() + 1);
  chain(out, out, start, secret);
  out.insert(out.begin(), start.begin() + kBlock, start.end());
  return out;
}

Result<Octets> reveal_salted(OctetView hidden, const Authenticator& request, const SharedSecret& secret) {
  if (hidden.size() < 2 + kBlock || (hidden.size() - 2) % kBlock != 0) {
    return fail(Errc::malformed,
                fmt::format("salted value of {} octets, allowed 2 and a multiple of 16", hidden.size()));
  }
  Octets start(request.begin(), request.end());
  append(start, hidden.first(2));
  Octets out(hidden.begin() + 2, hidden.end());
  chain(out, hidden.subspan(2), start, secret);
  const std::size_t length = out[0];
  const bool fits = length < out.size();
  const bool padded = fits && std::all_of(out.begin() + 1 + static_cast<std::ptrdiff_t>(length), out.end(),
                                          [](std::uint8_t octet) { return octet == 0; });
  if (!padded) {
    wipe(out);
    return fail(Errc::not_genuine, "unreadable with this secret");
  }
  out.erase(out.begin());
  out.resize(length);
  return out;
}

bool looks_unreadable(OctetView password) {
  return !is_plain_text(password);
}

}  // namespace jembatan::wire
